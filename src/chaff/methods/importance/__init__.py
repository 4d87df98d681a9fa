"""What a fitted model loses without a feature."""
