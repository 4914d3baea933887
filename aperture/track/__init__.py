"""Following points through the frames of a film: detection, following, keep-out areas."""
