"""What a linear model says: summary, worth of columns, moves by hand and by rule, residual checks."""
