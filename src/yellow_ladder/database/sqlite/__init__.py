"""SQLite behind the port: a file of this machine, worked on through the library that Python carries."""
