"""Columns that repeat each other: pairs, associations, variance inflation, relations, components."""
