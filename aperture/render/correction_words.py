"""What was done to a render that was brought back, in sentences."""

from __future__ import annotations

from aperture.render.corrections import STABILISED, Correction, Target


def in_words(one: Correction, way: int, by_hand: bool = False, target: Target | None = None) -> str:
    """What the render must and must not get of a correction, and what was done; `target`: the grid
    that it was made for."""
    if one.name == STABILISED:
        return _stabilised_in_words(one, way)
    if not one.of_plate:
        if not way:
            return ""
        return "You have it turned over." if by_hand else f"It is {one.about}: it was turned back."
    if one.key == "lens" and way == 0 and target and target.straight:
        return (
            "The plate is bent by its lens, and this render was made for a straight grid: the chain"
            " bent it, on its way to the plate."
        )
    if one.key == "lens":
        return {
            0: (
                "The plate is bent by its lens, and so is this render: it must be neither bent"
                " again nor straightened."
            ),
            1: "The plate is bent by its lens, and this render was straight: it was bent.",
            -1: (
                "The plate is bent by its lens, and this render was bent twice: that was taken back"
                " once."
            ),
        }[way]
    must = (
        f"The plate was {one.about} in its chain, and the camera describes it so: a render from it"
        f" must not be {one.about.split(' ')[0]} again."
    )
    if way == 0:
        return must
    if by_hand:
        return f"{must} You have it {'taken back once' if way < 0 else 'done'}."
    if way < 0:
        return f"{must} This one had been: that was taken back."
    return f"{must} This one was made for the grid before that: it was done."


def _stabilised_in_words(one: Correction, way: int) -> str:
    """Which of plate and render is stabilised, and what was done to the render."""
    if len(one.ways) < 2:
        plate = "is" if one.of_plate else "isn’t"
        return (
            f"The plate {plate} stabilised. Whether this render is, can’t be told: here it would"
            f" turn by {one.about} only."
        )
    return {
        (True, 0): "The plate is stabilised, and so is this render: they fit.",
        (
            True,
            1,
        ): (
            "The plate is stabilised, and this render wasn’t: it was turned with the plate, by"
            f" {one.about}."
        ),
        (True, -1): "The plate is stabilised, and this render was so twice: one was taken back.",
        (False, 0): "The plate isn’t stabilised, nor is this render: they fit.",
        (
            False,
            -1,
        ): f"The plate isn’t stabilised, and this render was: it was turned back, by {one.about}.",
        (
            False,
            -2,
        ): "The plate isn’t stabilised, and this render was so twice: both were taken back.",
    }[one.of_plate, way]
