"""Tables larger than memory: pieces of Parquet, columns mapped from scratch."""
