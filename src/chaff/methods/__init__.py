"""The ways to judge features, a file each, in the order in which people work."""
