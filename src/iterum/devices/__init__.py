"""Chargers and checkers: the interface every driver keeps, a line protocol over TCP, and simulated devices."""
