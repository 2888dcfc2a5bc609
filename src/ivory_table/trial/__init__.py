"""Trials: random practice machines through the station code, beside the ways of working by hand."""
