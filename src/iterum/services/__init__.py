"""Use cases: fetch, call the core, save, in one transaction. No web framework, no clock."""
