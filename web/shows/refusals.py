"""What is refused: sentences that reach the artist through the middleware, whatever the client
is."""

from aperture.errors import Problem


class Refused(Problem):
    """Something that can't be done as the shot stands. `status`: HTTP's word for it."""

    status = 422

    def more(self) -> dict:
        """What a script is told besides the sentence."""
        return {}


class NotValid(Refused):
    """What was sent breaks the rules of a part of the shot's state; `place` says where."""


class Locked(Refused):
    """The shot's camera is locked."""

    status = 423


class Moved(Refused):
    """The shot isn't what the page shows any more, and nothing was done; `newest` is the head's
    number."""

    status = 409

    def __init__(self, sentence: str, newest: int):
        super().__init__(sentence)
        self.newest = newest

    def more(self) -> dict:
        """Where the page can go on."""
        return {"newest": self.newest}


class Stale(Moved):
    """Somebody saved in between; `kept` is the number of the revision that holds the refused
    version."""

    def __init__(self, kept: int, newest: int):
        super().__init__(
            "This shot was changed in another window after you opened it. Nothing was overwritten:"
            f" the newer version stays, and yours is kept as revision {kept}.",
            newest,
        )
        self.kept = kept

    def more(self) -> dict:
        """Where the page can go on, and what it can take instead."""
        return super().more() | {"kept": self.kept}
