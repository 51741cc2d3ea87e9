"""The command line, on top of the Python interface alone."""
