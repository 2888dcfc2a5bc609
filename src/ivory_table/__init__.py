"""Ivory Table: from a crooked plate to a judged first layer."""

__version__ = "0.1.0"
