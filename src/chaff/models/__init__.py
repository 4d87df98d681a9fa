"""Learners. Each is a frozen dataclass whose fields are its settings."""
