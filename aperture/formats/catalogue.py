"""The catalogue as JSON (one file, all of it) and as CSV (one file of sensor modes, one of lenses).

JSON: `schema/catalogue.schema.json` beside this file. CSV (RFC 4180, UTF-8, a header row): a row a
mode or a lens; the columns are MODE_COLUMNS and LENS_COLUMNS; several values in one cell are parted
by semicolons; see docs/formats.md.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

from aperture import strict_json
from aperture.errors import Problem
from aperture.formats import delimited
from aperture.lens.distortion import NAMES
from aperture.units import format_rate, parse_number, parse_rate

FORMAT = "accurate-aperture/catalogue"
MODE_COLUMNS = (
    "maker",
    "body",
    "photosites_width",
    "photosites_height",
    "mode",
    "left",
    "top",
    "width",
    "height",
    "width_mm",
    "height_mm",
    "recorded_width",
    "recorded_height",
    "squeezes",
    "rates",
)
LENS_COLUMNS = (
    "maker",
    "lens",
    "focal_min_mm",
    "focal_max_mm",
    "widest_stop",
    "smallest_stop",
    "squeeze",
    "projection",
    "close_focus_m",
    "entrance_pupil_mm",
    "distortion",
)


@cache
def schema() -> dict[str, Any]:
    """The published JSON Schema of the catalogue."""
    return json.loads((Path(__file__).parent / "schema" / "catalogue.schema.json").read_text())


def check(data: dict[str, Any]) -> dict[str, Any]:
    """The catalogue document, completed with what was left out. Raises Problem at the first place
    that is wrong, naming it."""
    _check_schema(data)
    for body in data.get("bodies", ()):
        for mode in body["modes"]:
            _check_mode(body, mode)
    for lens in data.get("lenses", ()):
        _check_lens(lens)
    return {
        "format": FORMAT,
        "version": 1,
        "bodies": [
            {"maker": "", "notes": ""}
            | body
            | {"modes": [{"squeezes": [], "rates": []} | mode for mode in body["modes"]]}
            for body in data.get("bodies", ())
        ],
        "lenses": [_complete_lens(lens) for lens in data.get("lenses", ())],
    }


def _complete_lens(lens: dict[str, Any]) -> dict[str, Any]:
    usual = {
        "maker": "",
        "notes": "",
        "squeeze": 1.0,
        "projection": "rectilinear",
        "distortion": [],
    }
    return usual | lens


def _check_schema(data: dict[str, Any]) -> None:
    from jsonschema import Draft202012Validator

    error = min(
        Draft202012Validator(schema()).iter_errors(data),
        key=lambda e: (len(e.absolute_path), str(e.absolute_path)),
        default=None,
    )
    if error is None:
        return
    place = "/".join(str(part) for part in error.absolute_path)
    what = error.message[:300]
    if error.validator == "not":
        what = f"{error.instance[:60]!r} holds a control character"
    raise Problem(
        f"The catalogue breaks its schema at {place or 'its top level'}: {what}.",
        place,
    )


def _check_mode(body: dict[str, Any], mode: dict[str, Any]) -> None:
    """Whether a mode lies on its body, with photosites about as wide as tall."""
    says = f"“{body['name']}”, mode “{mode['name']}”"
    left, top, width, height = mode["window"]
    if left + width > body["photosites"][0] or top + height > body["photosites"][1]:
        across, down = body["photosites"]
        raise Problem(
            f"{says}: its window reaches outside the body’s {across} × {down} photosites."
        )
    pitch = (mode["width_mm"] / width) / (mode["height_mm"] / height)
    if not 0.9 < pitch < 1.1:
        raise Problem(
            f"{says}: {mode['width_mm']:g} × {mode['height_mm']:g} mm on {width} × {height}"
            f" photosites makes them {pitch:.2f} times as wide as tall. Check the sizes."
        )


def _check_lens(lens: dict[str, Any]) -> None:
    if lens["focal_mm"][0] > lens["focal_mm"][1]:
        raise Problem(f"“{lens['name']}”: the shortest focal length comes first.")
    if lens.get("projection", "rectilinear") != "rectilinear" and lens.get("distortion"):
        raise Problem(f"“{lens['name']}”: distortion coefficients belong to a rectilinear lens.")


def read(data: bytes, name: str = "") -> dict[str, Any]:
    """A catalogue document from the bytes of a JSON or CSV file. Raises Problem with the place that
    is wrong."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Problem(f"“{name or 'This file'}” is not text in UTF-8.") from None
    if text.lstrip().startswith("{"):
        return check(strict_json.loads(text))
    reader = csv.DictReader(delimited.lines(text))
    try:
        columns = set(reader.fieldnames or ())
    except csv.Error as error:
        raise Problem(f"Line 1 can't be read: {error}.") from None
    rows = delimited.rows(reader)
    if {"body", "mode"} <= columns:
        return check(_modes(rows, columns))
    if {"lens", "focal_min_mm"} <= columns:
        return check(_lenses(rows, columns))
    raise Problem(
        "A catalogue is JSON, or CSV with the columns of sensor modes (body, mode, …) or of lenses"
        " (lens, focal_min_mm, …)."
    )


def _cells(row: dict[str, str], number: int, columns: set[str]) -> dict[str, str]:
    if None in row:
        raise Problem(f"Line {number} has more cells than the header.")
    return {key: delimited.plain_cell((value or "").strip()) for key, value in row.items()}


def _number(cells: dict[str, str], key: str, number: int, whole: bool = False) -> float:
    value = parse_number(cells.get(key) or "nothing", f"Line {number}, {key}")
    if whole and value != int(value):
        raise Problem(f"Line {number}, {key}: type a whole number, not {cells[key]}.")
    return int(value) if whole else value


def _missing(columns: set[str], wanted: tuple[str, ...]) -> None:
    absent = [name for name in wanted if name not in columns]
    if absent:
        raise Problem(f"The table has no column {', '.join(absent)}.")


def _modes(rows: Iterator[Any], columns: set[str]) -> dict[str, Any]:
    _missing(
        columns,
        ("photosites_width", "photosites_height", "width", "height", "width_mm", "height_mm"),
    )
    bodies: dict[tuple[str, str], dict[str, Any]] = {}
    for number, row in enumerate(rows, 2):
        cells = _cells(row, number, columns)
        photosites = [
            _number(cells, f"photosites_{side}", number, True) for side in ("width", "height")
        ]
        maker = cells.get("maker", "")
        body = bodies.setdefault(
            (maker, cells["body"]),
            {"name": cells["body"], "maker": maker, "photosites": photosites, "modes": []},
        )
        if body["photosites"] != photosites:
            raise Problem(
                f"Line {number}: “{cells['body']}” had {body['photosites'][0]} ×"
                f" {body['photosites'][1]} photosites before."
            )
        size = [_number(cells, side, number, True) for side in ("width", "height")]
        corner = [
            _number(cells, side, number, True) if cells.get(side) else (whole - part) // 2
            for side, whole, part in zip(("left", "top"), photosites, size)
        ]
        mode = (
            {"name": cells["mode"], "window": corner + size}
            | {key: _number(cells, key, number) for key in ("width_mm", "height_mm")}
            | {
                "squeezes": [
                    parse_number(part, f"Line {number}, squeezes")
                    for part in _parts(cells.get("squeezes") or "")
                ],
                "rates": [str(parse_rate(part)) for part in _parts(cells.get("rates") or "")],
            }
        )
        if cells.get("recorded_width"):
            mode["recorded"] = [
                _number(cells, f"recorded_{side}", number, True) for side in ("width", "height")
            ]
        body["modes"].append(mode)
    return {"format": FORMAT, "version": 1, "bodies": list(bodies.values())}


def _parts(cell: str) -> list[str]:
    return [part.strip() for part in (cell or "").split(";") if part.strip()]


def _lenses(rows: Iterator[Any], columns: set[str]) -> dict[str, Any]:
    _missing(columns, ("focal_max_mm",))
    lenses = []
    for number, row in enumerate(rows, 2):
        cells = _cells(row, number, columns)
        low = _number(cells, "focal_min_mm", number)
        high = _number(cells, "focal_max_mm", number) if cells["focal_max_mm"] else low
        lens: dict[str, Any] = {
            "name": cells["lens"],
            "maker": cells.get("maker", ""),
            "focal_mm": [low, high],
        }
        if cells.get("widest_stop"):
            lens["stops"] = [
                _number(cells, key, number) for key in ("widest_stop", "smallest_stop")
            ]
        for key in ("squeeze", "close_focus_m", "entrance_pupil_mm"):
            if cells.get(key):
                lens[key] = _number(cells, key, number)
        if cells.get("projection"):
            lens["projection"] = cells["projection"]
        for part in _parts(cells.get("distortion") or ""):
            words = part.replace(":", " ").split()
            if not 2 <= len(words) <= 6:
                raise Problem(
                    f"Line {number}, distortion: write “focal: k1 k2 k3 p1 p2”, not “{part[:40]}”."
                )
            values = [parse_number(word, f"Line {number}, distortion") for word in words]
            lens.setdefault("distortion", []).append(
                {"focal_mm": values[0]} | dict(zip(NAMES, values[1:]))
            )
        lenses.append(lens)
    return {"format": FORMAT, "version": 1, "lenses": lenses}


def write_json(data: dict[str, Any]) -> str:
    """The whole catalogue."""
    return json.dumps(check(data), indent=1, ensure_ascii=False) + "\n"


def _table(columns: tuple[str, ...], rows: list[dict[str, Any]]) -> str:
    out = io.StringIO()
    writer = csv.DictWriter(out, columns, lineterminator="\r\n")
    writer.writeheader()
    writer.writerows(
        [{key: delimited.safe_cell(value) for key, value in row.items()} for row in rows]
    )
    return out.getvalue()


def write_modes_csv(data: dict[str, Any]) -> str:
    """A row a sensor mode."""
    rows = []
    for body in data["bodies"]:
        for mode in body["modes"]:
            recorded = mode.get("recorded") or ["", ""]
            values = (
                body["maker"],
                body["name"],
                *body["photosites"],
                mode["name"],
                *mode["window"],
                mode["width_mm"],
                mode["height_mm"],
                *recorded,
                "; ".join(f"{s:g}" for s in mode["squeezes"]),
                "; ".join(mode["rates"]),
            )
            rows.append(dict(zip(MODE_COLUMNS, values)))
    return _table(MODE_COLUMNS, rows)


def write_lenses_csv(data: dict[str, Any]) -> str:
    """A row a lens."""
    rows = []
    for lens in data["lenses"]:
        distortion = "; ".join(
            " ".join(
                [f"{row['focal_mm']!r}:", *(repr(float(row.get(name, 0.0))) for name in NAMES)]
            )
            for row in lens["distortion"]
        )
        values = (
            lens["maker"],
            lens["name"],
            *lens["focal_mm"],
            *(lens.get("stops") or ["", ""]),
            lens["squeeze"],
            lens["projection"],
            lens.get("close_focus_m", ""),
            lens.get("entrance_pupil_mm", ""),
            distortion,
        )
        rows.append(dict(zip(LENS_COLUMNS, values)))
    return _table(LENS_COLUMNS, rows)


def rate_text(rate: str) -> str:
    """`23.976` for `24000/1001`."""
    return format_rate(parse_rate(rate))
