"""Walks through sets of features, and the size that is chosen from them."""
