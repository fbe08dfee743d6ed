"""From the first act of a batch to the shelf: run, watch, log, health, flight, putting away."""
