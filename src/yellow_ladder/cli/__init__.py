"""The command line: options in, rendered result out."""
