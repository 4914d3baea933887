"""From evidence (marks and facts, each with its ±) to a camera. `solve.solve` is the way in."""
