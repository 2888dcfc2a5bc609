"""The value stored for the nozzle's height: set and read back at the Z offset and at the first layer."""

from . import doubts, lessons, practice, state

__all__ = ["doubts", "lessons", "practice", "state"]
