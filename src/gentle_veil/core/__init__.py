"""Numbers in, numbers out. No path, clock, environment, database or web in here."""
