"""Talking to a machine: one session on one line, in the words of a manner; and the practice machine's side door."""
