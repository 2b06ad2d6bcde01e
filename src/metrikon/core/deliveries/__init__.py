"""What goes out: the states of a delivery and its moves, and what a delivery is for. Pure."""
