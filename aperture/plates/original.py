"""What became of the camera's own picture on the way to the plate: crops, resizes, a turn."""

from __future__ import annotations

from typing import Any

# A resize rounds to whole pixels, and programs differ by one more.
ROUNDING_PX = 1.5


def explain(original: tuple[int, int], picture: tuple[int, int]) -> str:
    """A sentence on how a file of `original` size, px, became a picture of another; or empty."""
    if original == picture or original == picture[::-1]:
        return ""
    opening = (
        f"The camera's file was {original[0]} × {original[1]}, "
        f"this picture is {picture[0]} × {picture[1]}: "
    )
    turned = (original[0] > original[1]) != (picture[0] > picture[1])
    if turned and original[0] != original[1]:
        original = original[::-1]
        opening += "turned on its side, and "
    return opening + _steps(original, picture)


def _steps(original: Any, picture: Any) -> str:
    across, down = picture[0] / original[0], picture[1] / original[1]
    share = max(across, down)
    whole = original[0] * share, original[1] * share
    lost = round(whole[0] - picture[0]), round(whole[1] - picture[1])
    if max(lost) <= ROUNDING_PX:
        return f"resized to {share:.1%}, whole. The gate is that of the whole sensor mode."
    smaller = picture[0] <= original[0] and picture[1] <= original[1]
    side, count, full = (
        ("columns", picture[0], whole[0]) if lost[0] > lost[1] else ("rows", picture[1], whole[1])
    )
    cut = f"cropped to {count} of {full:.0f} {side}. Add that crop on the Gate step."
    if abs(share - 1) < 1e-9:
        return cut
    if smaller:
        return (
            f"resized to {share:.1%} and {cut[: -len(' Add that crop on the Gate step.')]} "
            f"If nothing was resized, it is a crop of {picture[0]} × {picture[1]}. "
            "Add what was done on the Gate step."
        )
    return f"enlarged to {share:.1%} and {cut}"
