"""Tables: sources, kinds, roles, and the three numeric forms (Design, Moments, Bins)."""
