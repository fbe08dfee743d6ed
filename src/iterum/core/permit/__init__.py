"""What may be done with a pack now: one verdict for every act, cell by cell."""
