"""The command line: parse, call, print. No computing."""
