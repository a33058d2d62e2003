"""Gentle Veil: digital makeup for moving pictures."""

__version__ = "0.1.0"
