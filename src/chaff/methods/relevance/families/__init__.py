"""Filter statistics by family: each file reads the data once and gives all that follows from it; the catalogue finds them."""
