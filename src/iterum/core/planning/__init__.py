"""Planning: batches of packs over channels, boards, time, watts, watt-hours and one pair of hands."""
