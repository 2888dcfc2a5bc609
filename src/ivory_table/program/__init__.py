"""Programs for a machine: written, read, and checked over the plate they are for. Pure: no clock, no web, no database."""
