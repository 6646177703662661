"""The command line: options in, rendered result out. As many files as commands: each has one of its own."""
