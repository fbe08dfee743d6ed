"""Packs as an electrical circuit: resistance, joining, evening out, charging, minutes."""
