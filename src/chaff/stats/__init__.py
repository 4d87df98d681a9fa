"""Closed-form statistics on plain arrays: no table, no file, no terminal."""
