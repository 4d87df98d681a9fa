"""Ways of saying what a model uses, a file a way: frozen dataclasses whose fields are their settings."""
