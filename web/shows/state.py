"""The state of a shot: which parts it has, how they are stored, how an older one is brought up to
date.

Each app declares its parts once, when it is ready. A revision holds the digest of each part that
isn't at its default; the part's JSON lies in the table of parts, or, where it is large, in the blob
store. A part that didn't change keeps its digest, so comparing, locking and merging compare
digests.
"""

import copy
import functools
import hashlib
import json
from collections.abc import Callable, Iterable, Mapping, MutableMapping
from dataclasses import dataclass

import jsonschema_rs

from web.blobs import store
from web.shows.refusals import NotValid

# Bumped with a step in UPGRADES whenever what a part holds changes its meaning or form.
VERSION = 2
# Larger parts lie in the blob store, and are read only where they are asked for.
LARGEST_INLINE = 32_768


@dataclass(frozen=True)
class Part:
    """One part of the state.

    schema : JSON Schema (draft 2020-12) of its value.
    group : parts of one group mean something only together: where two windows changed the same
        group, one of them is refused; other groups are merged.
    camera : locked with the shot's camera.
    renders : a render that was made before a change of it is old.
    """

    key: str
    default: object
    schema: dict
    group: str
    camera: bool = False
    renders: bool = False

    def check(self, value) -> None:
        """Raise NotValid, with the place, where the value breaks the schema."""
        error = next(iter(_validator(self.key).iter_errors(value)), None)
        if error is not None:
            place = "".join(f"/{step}" for step in (self.key, *error.instance_path))
            raise NotValid(f"What was sent can't be used at {place}: {error.message[:200]}.", place)


_parts: dict[str, Part] = {}
_validators: dict[str, object] = {}


def register(*parts: Part) -> None:
    """Declare parts of the state; called by the app that they belong to."""
    for part in parts:
        _parts[part.key] = part
        _validators.pop(part.key, None)


def parts() -> dict[str, Part]:
    """All declared parts by their keys."""
    return _parts


def camera_keys() -> frozenset[str]:
    """The parts that make the camera: a locked shot refuses to change them."""
    return frozenset(part.key for part in _parts.values() if part.camera)


def groups_of(keys: Iterable[str]) -> set[str]:
    """The groups that some parts belong to."""
    return {_parts[key].group for key in keys}


def _validator(key: str):
    if key not in _validators:
        _validators[key] = jsonschema_rs.Draft202012Validator(_parts[key].schema)
    return _validators[key]


def encode(value) -> tuple[str, str]:
    """(digest, text) of a part's value: canonical JSON, and its SHA-256."""
    try:
        text = json.dumps(
            value, sort_keys=True, separators=(",", ":"), allow_nan=False, ensure_ascii=False
        )
        return hashlib.sha256(text.encode()).hexdigest(), text
    except UnicodeEncodeError:
        raise NotValid("A text holds half of a character, which can't be kept.") from None
    except ValueError:
        raise NotValid("A number that isn't finite can't be kept.") from None


class Texts(dict):
    """Texts of parts by digest, shared by states that are looked at together: the first that reads
    one reads for all.

    wanted : digests that aren't read yet, each with the name of its group. A group is read whole,
    once one of it is
        asked for: all parts of one shot, or one part of many shots.
    fetch : the texts of some digests, as far as they lie in the table of parts.
    """

    def __init__(
        self,
        wanted: Mapping[str, str] = {},
        fetch: Callable[[set[str]], dict[str, str]] = lambda digests: {},
    ):
        super().__init__()
        self.wanted, self.fetch = dict(wanted), fetch

    def __missing__(self, digest):
        group = self.wanted.get(digest)
        together = {other for other, of in list(self.wanted.items()) if of == group}
        self.update(self.fetch(together | {digest}))
        for other in together:  # another thread may have read the group meanwhile
            self.wanted.pop(other, None)
        if digest not in self:
            self[digest] = store.get(digest).decode()
        return self[digest]


class State(MutableMapping):
    """A shot's state, its parts read where they are asked for. Deleting a part sets it to its
    default.

    Values are lists and dicts of JSON. `change` of an edit gets a state whose values may be changed
    in place: what was read is encoded anew when the digests are asked for. A saved revision's state
    is `read_only`; what follows from it (`once`) is computed once, and shared.
    """

    def __init__(
        self,
        digests: Mapping[str, str] = {},
        texts: Texts | None = None,
        read_only: bool = False,
        fresh: Mapping[str, str] = {},
    ):
        self._stored = dict(digests)
        self._texts = Texts() if texts is None else texts
        self._fresh = dict(fresh)  # texts of parts that were changed here, by digest
        self._open: dict[str, object] = {}
        self.size = 0  # characters of the texts that were read
        self.read_only = read_only
        self.derived: dict[tuple, object] = {}

    def __getitem__(self, key):
        if key not in self._open:
            part = _parts[key]
            digest = self._stored.get(key)
            if digest is None:
                self._open[key] = copy.deepcopy(part.default)
            else:
                text = self.text(digest)
                self.size += len(text)
                self._open[key] = json.loads(text)
        return self._open[key]

    def __setitem__(self, key, value):
        if key not in _parts:
            raise KeyError(f"No app has declared a part of the state called {key}.")
        if self.read_only:
            raise TypeError("A saved state isn't changed: `history.edit` makes a new one.")
        self._open[key] = value

    def __delitem__(self, key):
        self[key] = copy.deepcopy(_parts[key].default)

    def __iter__(self):
        return iter(_parts)

    def __len__(self):
        return len(_parts)

    def __contains__(self, key):
        return key in _parts

    def __eq__(self, other):
        if isinstance(other, State):
            return self.digests() == other.digests()
        return isinstance(other, Mapping) and dict(self) == dict(other)

    def __or__(self, other):
        """What the state would be with some parts set, to be read only; it is saved by nobody."""
        out = self.copy()
        out.update(other)
        return State(out.digests(), out._texts, read_only=True, fresh=out._fresh)

    def __ior__(self, other):
        self.update(other)
        return self

    def copy(self) -> "State":
        """The same state, to be changed on its own."""
        return State(self.digests(), self._texts, fresh=self._fresh)

    def become(self, other: "State") -> None:
        """Take all parts of another state."""
        self._stored, self._open = other.digests(), {}
        self._texts.update(other._texts)
        self._fresh |= other._fresh

    def digests(self) -> dict[str, str]:
        """The digest of each part that isn't at its default."""
        out = dict(self._stored)
        if self.read_only:
            return out
        for key, value in self._open.items():
            if value == _parts[key].default:
                out.pop(key, None)
            else:
                out[key], text = encode(value)
                self._fresh[out[key]] = text
        return out

    def spoilt(self) -> list[str]:
        """The parts of a saved state whose values somebody has changed in place."""
        return [
            key
            for key, value in list(self._open.items())
            if value
            != (
                json.loads(self.text(self._stored[key]))
                if key in self._stored
                else _parts[key].default
            )
        ]

    def check(self, keys: Iterable[str]) -> None:
        """Raise NotValid where one of these parts breaks its schema."""
        for key in keys:
            _parts[key].check(json.loads(encode(self[key])[1]))

    def text(self, digest: str) -> str:
        """The canonical JSON of one of its parts, read before or changed here."""
        return self._fresh.get(digest) or self._texts[digest]


def once(compute):
    """Compute what follows from a state, `compute(state, *given)`, once for each read-only state.

    A request has one state of its shot, and many of its pages' parts ask for the same chain, fit
    and camera. The results are shared: whoever gets one doesn't change it.
    """

    @functools.wraps(compute)
    def of(state, *given):
        if not getattr(state, "read_only", False):
            return compute(state, *given)
        key = (compute, *given)
        try:
            hash(key)
        except TypeError:  # a lens has no hash
            return compute(state, *given)
        if key not in state.derived:
            state.derived[key] = compute(state, *given)
        return state.derived[key]

    return of


# Older versions -----------------------------------------------------------------------------------


def _from_1(state: MutableMapping) -> dict:
    """Version 1: each revision held everything, and lacked what its release didn't know yet."""
    out = {key: value for key, value in state.items() if key in _parts}
    for key in ("guides", "card"):  # null where they had been taken away
        if out.get(key, {}) is None:
            del out[key]
    return out


UPGRADES: dict[int, Callable[[dict], dict]] = {1: _from_1}


def upgraded(state: dict, version: int) -> State:
    """A state of an older version, plain, brought up to date by one step after the other."""
    if version > VERSION:
        raise NotValid(
            f"This shot was saved by a newer release (its state has version {version}, this one"
            f" knows {VERSION}). Use the newer release."
        )
    for step in range(version, VERSION):
        state = UPGRADES[step](state)
    return State(read_only=True) | state
