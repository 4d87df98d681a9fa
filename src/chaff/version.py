"""The version: said here once."""

__version__ = "0.1.0"
