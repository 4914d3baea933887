"""Shapes and sizes as people type them: `2.39`, `16:9`, `2048 × 858`, `1920 wide`, `50 %`, `21.95 ×
16 mm`."""

import re
from fractions import Fraction
from typing import Any

from aperture.errors import Problem
from aperture.units import exact_number, format_number, parse_length, parse_number

MOST_OF_A_RATIO, TINY = 50, 1e-12
_PAIR = re.compile(r"^\s*([^×x*]+?)\s*[×x*]\s*([^×x*]+?)\s*$")
_UNIT = re.compile(r"(mm|cm|in)\s*$")


def parse_aspect(text: str) -> float:
    """`2.39`, `2.39:1`, `16:9`. Raises Problem."""
    parts = [part.strip() for part in str(text).split(":")]
    if not 1 <= len(parts) <= 2:
        raise Problem(
            f"The aspect can't be read from “{str(text)[:40]}”: type for example 2.39 or 16:9."
        )
    value = parse_number(parts[0], "The aspect")
    if len(parts) == 2:
        below = parse_number(parts[1], "The aspect")
        if below <= 0:
            raise Problem(
                "The aspect can't be read: the number after the colon must be above zero."
            )
        value /= below
    if not 0.05 <= value <= 50:
        raise Problem("The aspect must lie between 0.05 and 50.")
    return value


def parse_shape(text: str, allowed: tuple[str, ...]) -> dict[str, Any]:
    """The parameters of a step from one text; `allowed` of: aspect, px, mm, side, scale. Raises
    Problem with examples of what is allowed."""
    examples = {
        "aspect": "2.39 or 16:9",
        "px": "2048 × 858",
        "mm": "21.95 × 16 mm",
        "side": "1920 wide",
        "scale": "50 %",
    }
    wrong = Problem(
        f"This can't be read from “{str(text)[:40]}”: type for example"
        f" {', '.join(examples[key] for key in allowed)}."
    )
    cleaned = str(text).strip().lower().removesuffix("px").strip()
    pair = _PAIR.match(cleaned)
    try:
        if pair and (found := _UNIT.search(cleaned)):
            if "mm" not in allowed:
                raise wrong
            unit = found[1]
            width, height = (
                round(parse_length(_UNIT.sub("", part), unit) * 1000, 6) for part in pair.groups()
            )
            return {"width_mm": width, "height_mm": height}
        if pair and "px" in allowed:
            return {"width": _pixels(pair[1]), "height": _pixels(pair[2])}
        for word, key in (("wide", "width"), ("high", "height")):
            if cleaned.endswith(word) and "side" in allowed:
                return {key: _pixels(cleaned.removesuffix(word))}
        if cleaned.endswith("%") and "scale" in allowed:
            return {"scale": parse_number(cleaned[:-1]) / 100}
        if "aspect" in allowed and not pair:
            return {"aspect": parse_aspect(cleaned)}
    except Problem as problem:
        raise (problem if problem is wrong or "must" in problem.sentence else wrong) from None
    raise wrong


def _pixels(text: str) -> int:
    value = parse_number(text)
    if value != int(value) or value < 1:
        raise Problem(
            f"A size in pixels must be a whole number of at least 1, not {text.strip()[:20]}."
        )
    return int(value)


def aspect_text(aspect: float) -> str:
    """The text that `parse_aspect` reads an aspect from: `2.39`, or `16:9` where no few decimals
    say it."""
    plain = format_number(aspect, 6)
    whole = Fraction(aspect).limit_denominator(MOST_OF_A_RATIO)
    if abs(float(plain) - aspect) > TINY and abs(float(whole) - aspect) < TINY:
        return f"{whole.numerator}:{whole.denominator}"
    return exact_number(aspect)


def shape_text(step: dict[str, Any]) -> str:
    """The text that `parse_shape` reads a step's shape from."""
    if "width_mm" in step:
        return f"{format_number(step['width_mm'], 6)} × {format_number(step['height_mm'], 6)} mm"
    if "aspect" in step:
        return aspect_text(step["aspect"])
    if "scale" in step:
        return f"{format_number(step['scale'] * 100, 6)} %"
    if "width" in step and "height" in step:
        return f"{step['width']} × {step['height']}"
    if "width" in step:
        return f"{step['width']} wide"
    return f"{step['height']} high" if "height" in step else ""
