"""What people type of packs and kit, read with every word accounted for."""
