"""The Hand-off step's part of the state."""

from web.shows.schemas import listed, text
from web.shows.state import Part

# What doesn't go into the scene files: some of `contents.GROUPS`, or "stand-in:<id>",
# "camera:<id>". The plate card stands in the way of a renderer, so that it is asked for.
PARTS = (Part("left_out", ["card"], listed(text(80), 3000), group="hand-off"),)
