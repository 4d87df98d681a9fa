"""Strategies of search, a file each: every frozen dataclass here with a `name` is found."""
