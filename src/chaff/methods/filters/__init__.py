"""Filter statistics by family: each family reads the data once and gives everything that follows from it."""
