"""The simulated rig on its page: programmed in a form, played, its move as a file and sent to a
shot."""

import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from django import forms

from aperture.errors import Problem
from aperture.formats import rig_files
from aperture.geometry.rotation import rotation_from_angles
from aperture.moves.rig import KINDS, MOUNTS, PROFILES, Played, Program, play
from aperture.units import LENGTH_UNITS, parse_rate
from web.match.fits import document_of
from web.shows.models import Shot
from web.stage.places import places_of
from web.stage.stand_ins import stand_ins_of

# How well a rig knows its own points, metres: common practice, no source.
POINT_SPREAD_M = 0.003
PLACES = {"start": "Start", "end": "End", "target": "Looks at"}
FORMATS = {
    ".usda": "OpenUSD, text",
    ".usdc": "OpenUSD, binary",
    ".glb": "glTF, binary",
    ".gltf": "glTF, text",
    ".dae": "COLLADA",
    ".csv": "Table, commas",
    ".txt": "Table, tabs",
    ".jsonl": "OpenTrackIO",
}


class RigForm(forms.Form):
    """A rig's program, where the rig stands in the set, and how its move is written.

    `cleaned_data` gets `program`, `rate` and `stands` (4, 4), set from rig.
    """

    kind = forms.ChoiceField(label="Kind of move", choices=list(KINDS.items()))
    profile = forms.ChoiceField(label="Goes", choices=list(PROFILES.items()))
    mount = forms.ChoiceField(label="The camera", choices=list(MOUNTS.items()))
    side = forms.TypedChoiceField(
        label="Arm on the rails’", choices=[(1, "right"), (-1, "left")], coerce=int
    )
    turn_deg = forms.FloatField(label="Turns by (°)", min_value=-360, max_value=360)
    seconds = forms.FloatField(label="Takes (s)", min_value=0.05, max_value=600)
    arm_m = forms.FloatField(label="Arm (m)", min_value=0.2, max_value=20)
    focal_mm = forms.FloatField(label="Lens (mm)", min_value=1, max_value=2000)
    stand_x = forms.FloatField(label="Across (m)", min_value=-1e4, max_value=1e4)
    stand_z = forms.FloatField(label="Along (m)", min_value=-1e4, max_value=1e4)
    stand_turn = forms.FloatField(label="Turned (°)", min_value=-360, max_value=360)
    ending = forms.ChoiceField(label="File", choices=list(FORMATS.items()))
    unit = forms.ChoiceField(label="Unit", choices=list(LENGTH_UNITS.items()))
    up_axis = forms.ChoiceField(label="Up is", choices=[("Y", "Y"), ("Z", "Z")])
    rate = forms.CharField(label="Frames per second", max_length=30)

    def __init__(self, data: Mapping | None, shot: Shot):
        usual = usual_program(shot)
        super().__init__({**usual, **{k: v for k, v in (data or {}).items() if k in usual}})
        self.gate_mm = gate_of(shot)

    @classmethod
    def place_fields(cls) -> list[str]:
        """The names of the fields of places."""
        return [f"{name}_{axis}" for name in PLACES for axis in "xyz"]

    def clean(self):
        """Read all of it as one program."""
        data = super().clean() or self.cleaned_data
        if self.errors:
            return data
        try:
            places: dict[str, Any] = {
                name: tuple(float(data[f"{name}_{axis}"]) for axis in "xyz") for name in PLACES
            }
            plain = ("kind", "profile", "mount", "side", "turn_deg", "seconds", "arm_m", "focal_mm")
            named: dict[str, Any] = places | {name: data[name] for name in plain}
            data["program"] = Program(**named, gate_mm=self.gate_mm)
            data["rate"] = parse_rate(data["rate"])
        except Problem as problem:
            field = problem.place if problem.place in self.fields else None
            self.add_error(field, problem.sentence)
            return data
        stands = np.eye(4)
        stands[:3, :3] = rotation_from_angles(np.radians(data["stand_turn"]), 0, 0)
        stands[:3, 3] = data["stand_x"], 0, data["stand_z"]
        data["stands"] = stands
        return data


for _name in RigForm.place_fields():
    RigForm.base_fields[_name] = forms.FloatField(
        label=_name[-1].upper(), min_value=-1e4, max_value=1e4
    )


def gate_of(shot: Shot) -> tuple[float, float]:
    """Width and height in mm of the rig's camera: the plate's gate."""
    document = document_of(shot.state)
    if document is None or not document.get("gate"):
        return 36.0, 20.25
    gate = document["gate"]
    return float(gate["width_mm"]), float(gate["height_mm"])


def usual_program(shot: Shot) -> dict:
    """What the page begins with."""
    usual = Program()
    out = {
        f"{name}_{axis}": value
        for name in PLACES
        for axis, value in zip("xyz", getattr(usual, name))
    }
    lens = shot.state["lens"].get("focal_mm") or {}
    return out | {
        "kind": usual.kind,
        "profile": usual.profile,
        "mount": usual.mount,
        "side": usual.side,
        "turn_deg": usual.turn_deg,
        "seconds": usual.seconds,
        "arm_m": usual.arm_m,
        "focal_mm": lens.get("value") or usual.focal_mm,
        "stand_x": 0.0,
        "stand_z": 6.0,
        "stand_turn": 0.0,
        "ending": ".usda",
        "unit": "cm",
        "up_axis": "Y",
        "rate": str(shot.show.rate),
    }


def drawn(shot: Shot, form: RigForm) -> dict:
    """What the page draws, in the rig's space: the rig per frame, and the set about it. Raises
    Problem where the rig can't do it.
    """
    data = form.cleaned_data
    played = play(data["program"], data["rate"])
    poses, axes = played.poses(), played.axes
    rig_from_set = np.linalg.inv(data["stands"])
    items = [
        {
            "name": name,
            "corners": np.round(
                item.vertices() @ rig_from_set[:3, :3].T + rig_from_set[:3, 3], 3
            ).tolist(),
        }
        for name, item in stand_ins_of(shot.state).items()
    ]
    every = max(1, played.count // 2000)
    return {
        "rate": float(played.rate),
        "count": played.count,
        "rail": np.round(axes["rail"], 4)[::every].tolist(),
        "camera": np.round(poses[:, :3, 3], 4)[::every].tolist(),
        "ahead": np.round(-poses[:, :3, 2], 4)[::every].tolist(),
        "half": float(np.arctan(data["program"].gate_mm[0] / 2 / data["program"].focal_mm)),
        "places": _places(data["program"], poses),
        "items": items,
        "exceeds": list(played.exceeds),
        "fastest": f"{_fastest(played):.2f} m/s",
    }


def _places(program: Program, poses: np.ndarray) -> dict:
    """Where the handles are; of a move that isn't straight the end is where it leads."""
    out = {name: list(getattr(program, name)) for name in PLACES}
    return out if program.kind == "line" else out | {"end": poses[-1, :3, 3].round(4).tolist()}


def _fastest(played: Played) -> float:
    steps = np.linalg.norm(np.diff(played.poses()[:, :3, 3], axis=0), axis=1)
    return float(steps.max(initial=0) * float(played.rate))


def written(form: RigForm) -> bytes:
    """The file of the move. Raises Problem where the rig can't do it."""
    data = form.cleaned_data
    played = play(data["program"], data["rate"])
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"rig{data['ending']}"
        rig_files.write(path, played, data["unit"], data["up_axis"])
        return path.read_bytes()


def points_of(shot: Shot, form: RigForm) -> dict[str, np.ndarray]:
    """The set's named points as the rig measured them in its own space, metres, each a little
    off."""
    rig_from_set = np.linalg.inv(form.cleaned_data["stands"])
    random = np.random.default_rng(len(places_of(shot)))
    return {
        name: rig_from_set[:3, :3] @ at
        + rig_from_set[:3, 3]
        + random.normal(size=3) * POINT_SPREAD_M
        for name, at in places_of(shot).items()
    }
