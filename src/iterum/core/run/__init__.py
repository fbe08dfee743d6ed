"""Batches on the bench: what may flow on their channels, and what a reading of them says."""
