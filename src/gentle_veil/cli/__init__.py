"""The command line: the same services as the web, from a shell."""
