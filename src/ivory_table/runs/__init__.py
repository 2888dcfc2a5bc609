"""A run: the rows that were kept in it, and the state they add up to. Pure values, no database."""
