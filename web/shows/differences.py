"""What one revision changed, in words and figures."""

from collections.abc import Iterator, Mapping
from typing import Any

from aperture.units import format_number
from web.shows.models import Revision

# Of each part of the state: the step that it belongs to, and what it is called.
PARTS = {
    "plate": ("plate", "plate"),
    "film": ("plate", "film"),
    "aside": ("match", "marks of other frames"),
    "way_in": ("plate", "way in"),
    "range": ("plate", "range"),
    "shift": ("plate", "shift of the frames"),
    "plate_facts": ("plate", "facts of the plate"),
    "gate": ("gate", "gate"),
    "guides": ("gate", "guides"),
    "lens": ("gate", "lens"),
    "marks": ("match", "mark"),
    "facts": ("match", "fact"),
    "planes": ("match", "plane"),
    "robust": ("match", "mistrust of marks"),
    "survey": ("match", "survey"),
    "tracks": ("match", "tracks"),
    "path_facts": ("match", "fact of the path"),
    "path": ("match", "path"),
    "zoom": ("match", "zoom"),
    "readout": ("match", "readout"),
    "stands": ("match", "how facts hold the path"),
    "keep_out": ("match", "keep-out area"),
    "draft": ("match", "draft"),
    "drafts": ("match", "drafts"),
    "draft_locks": ("match", "locks of drafts"),
    "stand_ins": ("set", "stand-in"),
    "cameras": ("set", "camera"),
    "camera_looks": ("set", "looks of cameras"),
    "card": ("set", "card"),
    "card_m": ("set", "distance of the card"),
    "exposure": ("expose", "exposure"),
    "metered": ("expose", "metered patch"),
    "pairs": ("expose", "pair of patches"),
    "focus": ("expose", "focus"),
    "pupil": ("expose", "shape of the opening"),
    "shutter": ("expose", "shutter"),
    "white": ("expose", "white"),
    "look": ("expose", "look"),
    "views": ("elements", "views"),
    "stereo": ("elements", "stereo"),
    "left_out": ("hand-off", "what is left out"),
    "moves": ("match", "move"),
    "alignments": ("match", "alignment of moves"),
    "move_evidence": ("match", "move that counts as evidence"),
    "serving": ("match", "move that is the camera"),
}
STEPS = ("plate", "gate", "match", "set", "expose", "elements", "hand-off")
MOST, MOST_TEXT = 6, 60  # sentences of one revision, characters of a value


def changed_parts(revision: Revision) -> set[str]:
    """The keys of the parts that a revision changed."""
    before = revision.parent.parts if revision.parent else {}
    after = revision.parts
    return {key for key in before.keys() | after.keys() if before.get(key) != after.get(key)}


def steps_of(revision: Revision) -> list[str]:
    """The steps whose parts a revision changed, in their order."""
    found = {PARTS[key][0] for key in changed_parts(revision) if key in PARTS}
    return [step for step in STEPS if step in found]


def in_words(revision: Revision) -> list[str]:
    """What a revision changed, a sentence each; the last one counts what is left out."""
    if revision.parent is None:
        return []
    before, after = revision.parent.state, revision.state
    out = []
    for key in PARTS:
        if key in changed_parts(revision):
            out += list(_part(PARTS[key][1], before[key], after[key]))
    if len(out) > MOST:
        out = [*out[: MOST - 1], f"and {len(out) - MOST + 1} more"]
    return out


def _part(name: str, before: Any, after: Any) -> Iterator[str]:
    if _has_ids(before) and _has_ids(after) and (before or after):
        yield from _items(name, before, after)
    elif isinstance(before, dict) and isinstance(after, dict) and before and after:
        yield from _fields(name, before, after)
    elif isinstance(before, bool) and isinstance(after, bool):
        yield f"{name}: {_value(before)} → {_value(after)}"
    elif not before and after:
        yield f"{name}: {_value(after)}" if not isinstance(after, (dict, list)) else f"{name} new"
    elif before and not after:
        yield f"{name} removed"
    else:
        yield f"{name}: {_value(before)} → {_value(after)}"


def _has_ids(value: Any) -> bool:
    return isinstance(value, list) and all(isinstance(one, dict) and "id" in one for one in value)


def _items(name: str, before: list, after: list) -> Iterator[str]:
    """Marks, stand-ins and their like: which came, went, or changed in what."""
    old, new = ({one["id"]: one for one in items} for items in (before, after))
    for id_ in new:
        if id_ not in old:
            yield f"{name} {_called(new[id_])} new"
    for id_ in old:
        if id_ not in new:
            yield f"{name} {_called(old[id_])} removed"
    for id_ in new:
        if id_ in old and old[id_] != new[id_]:
            yield from _fields(f"{name} {_called(new[id_])}", old[id_], new[id_])


def _called(item: Mapping) -> str:
    return str(item.get("name") or item["id"])


def _fields(name: str, before: Mapping, after: Mapping) -> Iterator[str]:
    for key in sorted(before.keys() | after.keys()):
        old, new = before.get(key), after.get(key)
        if old == new:
            continue
        words = f"{name}, {key.replace('_', ' ')}"
        if isinstance(old, dict) and isinstance(new, dict):
            yield from _fields(words, old, new)
        else:
            yield f"{words}: {_value(old)} → {_value(new)}"


def _value(value: Any) -> str:
    """A value as it is read; of lists of figures the figures, of others how many there are."""
    if value is None:
        return "–"
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, (int, float)):
        return format_number(value + 0.0, 4)  # no −0
    if isinstance(value, list):
        plain = all(isinstance(one, (int, float)) and not isinstance(one, bool) for one in value)
        if plain and len(value) <= 4:
            return ", ".join(format_number(one, 3) for one in value)
        return f"{len(value)} values"
    if isinstance(value, dict):
        return f"{len(value)} values"
    text = str(value)
    return text if len(text) <= MOST_TEXT else text[:MOST_TEXT] + "…"
