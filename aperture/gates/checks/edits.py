"""Changes of a gate document that remedies propose. Each returns a new document."""

from __future__ import annotations

import copy
from typing import Any


def with_steps(gate: dict[str, Any], *more: dict[str, Any], **values: Any) -> dict[str, Any]:
    """The gate document with steps put in just before the plate, and values set."""
    out = copy.deepcopy(gate) | values
    steps, at = list(out.get("steps", [])), int(out.get("plate_at", len(out.get("steps", []))))
    for step in more:
        steps.insert(at, {"id": new_id(steps), "origin": "assumed", **step})
        at += 1
    return out | {"steps": steps, "plate_at": at}


def new_id(steps: list[dict[str, Any]]) -> str:
    """An id that no step has yet."""
    taken = {step.get("id") for step in steps}
    return next(key for number in range(1, len(steps) + 2) if (key := f"g{number}") not in taken)


def without(gate: dict[str, Any], step_id: str) -> dict[str, Any]:
    """The gate document without one step."""
    out = copy.deepcopy(gate)
    steps, at = list(out.get("steps", [])), int(out.get("plate_at", len(out.get("steps", []))))
    index = next(i for i, step in enumerate(steps) if step["id"] == step_id)
    return out | {"steps": steps[:index] + steps[index + 1 :], "plate_at": at - (index < at)}


def with_last_step(gate: dict[str, Any], step: dict[str, Any]) -> dict[str, Any]:
    """The gate document with a step put in at its end, after the plate."""
    steps = list(gate.get("steps", []))
    at = gate.get("plate_at", len(steps))
    return copy.deepcopy(gate) | {
        "steps": [*copy.deepcopy(steps), {"id": new_id(steps), "origin": "assumed", **step}],
        "plate_at": at,
    }


def replaced(gate: dict[str, Any], step_id: str, *new: Any) -> dict[str, Any]:
    """The gate document with one step replaced by others."""
    out = copy.deepcopy(gate)
    steps = out["steps"]
    index = next(i for i, step in enumerate(steps) if step["id"] == step_id)
    at = out.get("plate_at", len(steps))
    steps[index : index + 1] = new
    out["plate_at"] = at + (len(new) - 1 if index < at else 0)
    return out
