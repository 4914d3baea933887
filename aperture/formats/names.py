"""Names within one file: each thing has its own, in the letters that the format allows."""

from __future__ import annotations

from collections.abc import Callable


class Names:
    """Gives out names, each of them once: one that was given before is counted on.

    Parameters
    ----------
    plain : callable, optional
        Makes a name of a label that the format can keep.
    between : str
        Stands before the number of a name that is counted on.

    Examples
    --------
    >>> names = Names()
    >>> [names.free(label) for label in ("Crate", "Bench", "Crate")]
    ['Crate', 'Bench', 'Crate 2']
    """

    def __init__(self, plain: Callable[[str], str] = str, between: str = " ") -> None:
        self._plain, self._between = plain, between
        self._taken: set[str] = set()

    def free(self, label: str) -> str:
        """A name of its own for a label."""
        plain, number = self._plain(label), 2
        own = plain
        while own in self._taken:
            own, number = f"{plain}{self._between}{number}", number + 1
        self._taken.add(own)
        return own
