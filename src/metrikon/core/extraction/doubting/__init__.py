"""What speaks against a value: another's place, another reading, words that are taken back, orders, hidden text."""
