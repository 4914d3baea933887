"""Frame rates that should agree: the show's, the sensor mode's, and a movie's own."""

from fractions import Fraction

from aperture.errors import Problem
from aperture.units import format_rate, parse_rate
from web.gates.actions import set_document
from web.plates.models import film_of
from web.ui.rows import Remark


def rates_of(shot) -> dict[str, Fraction]:
    """The rates that are known, by whose they are."""
    out = {"show": shot.show.rate}
    gate, film = shot.state["gate"], film_of(shot)
    if gate and gate.get("rate"):
        out["camera"] = parse_rate(gate["rate"])
    if film and film.rate:
        out["movie"] = film.rate
    return out


def rate_remarks(shot) -> list[Remark]:
    """One remark where rates differ, with what can be done about it; of a photograph it is only
    noted."""
    rates = rates_of(shot)
    if len(set(rates.values())) == 1:
        return []
    told = ", ".join(f"the {name} {format_rate(rate)}" for name, rate in rates.items())
    low, high = min(rates.values()), max(rates.values())
    frames = int(high / (high - low))
    says = f"Frames a second: {told}. After {frames:,} frames they are one frame apart."
    remedies = [
        (
            f"Run the show at {format_rate(rate)}",
            {
                "action": f"/shows/{shot.show.slug}/rate",
                "fields": {"rate": str(rate), "back": shot.url("gate")},
            },
        )
        for rate in sorted(set(rates.values()) - {rates["show"]})
    ]
    if "camera" in rates:
        others = sorted(set(rates.values()) - {rates["camera"]})
        remedies += [
            (
                f"The camera ran at {format_rate(rate)}",
                {
                    "action": shot.url("gate-rate"),
                    "fields": {"rate": str(rate), "base": shot.head.number},
                },
            )
            for rate in others
        ]
    kind = "doubt" if shot.state["film"] else "note"
    return [Remark("Rates that differ", says, kind, tuple(remedies))]


def set_rate(shot, rate: Fraction, base: int | None = None):
    """The rate that the camera ran at. Raises Problem without a sensor."""
    gate = shot.state["gate"]
    if not gate:
        raise Problem("Choose the sensor first: the rate is its mode’s.")
    label = f"The camera ran at {format_rate(rate)} fps"
    return set_document(shot, gate | {"rate": str(rate)}, label, base)
