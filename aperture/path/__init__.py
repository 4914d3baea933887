"""The camera that moved: from tracks to one camera per frame."""
