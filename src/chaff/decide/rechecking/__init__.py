"""Does a selection still serve on new rows? The same columns with new coefficients, drift, and on wish the whole plan again."""
