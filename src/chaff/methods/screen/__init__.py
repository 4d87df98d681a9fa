"""Look at the columns: what they hold, what cannot help, what looks like an id or a leak."""
