"""Open formats <-> core objects. No database."""
