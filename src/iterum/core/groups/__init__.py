"""Which packs may share a board: windows, groups, what would mend a pack that was left out."""
