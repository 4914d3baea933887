"""The one error that the core raises for bad input: a sentence for the artist, and the place it is
about."""

from __future__ import annotations


class Problem(ValueError):
    """Something the artist gave cannot be used.

    `sentence` says what is wrong and what would be right; `place` names the field, mark or fact it
    is about.
    """

    def __init__(self, sentence: str, place: str = "") -> None:
        super().__init__(sentence)
        self.sentence = sentence
        self.place = place
