"""How many amps: every limit of a chain on the current of a group."""
