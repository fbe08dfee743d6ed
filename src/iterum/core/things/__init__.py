"""What lies on the bench: packs and what is wrong with them, kit, feed, rules, the choice a person makes."""
