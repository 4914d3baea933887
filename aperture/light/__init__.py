"""Light: how much of it reaches the picture."""
