"""The amps to dial: every limit on a choice, the card, and the place that suits a group."""
