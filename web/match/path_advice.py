"""What would make a solved path more exact, in words and in the show's units."""

from typing import Any

from aperture.path.leaning import QUANTITIES
from aperture.units import format_value
from web.match.path_fits import path_fit


def context(shot, wanted: str) -> dict[str, Any]:
    """For `_path_advice.html`: the quantities that are set, the one that is wanted or the first,
    and what would shrink its ±."""
    fit = path_fit(shot.state) or {}
    told = fit.get("advice") or {}
    shift = shot.state["shift"] - shot.state["path"]["shift"] if fit else 0
    if not told:
        return {"says": "Nothing is set yet whose ± could be made smaller: see what isn’t set."}
    quantity = wanted if wanted in told else next(iter(told))
    own = told[quantity]
    rows = [
        {
            "says": row["says"] + _on(row["frame"], shift),
            "usual": row["usual"],
            "after": _said(quantity, row["then"], shot.show),
            "share": f"{1 - row['then'] / own['now']:.0%}",
            "bar": round(100 * (1 - row["then"] / own["now"])),
            "ids": " ".join(row["of"]),
        }
        for row in own["rows"]
    ]
    return {
        "quantity": quantity,
        "quantities": [(key, name) for key, name in QUANTITIES.items() if key in told],
        "frame": own["frame"] + shift if "frame" in own else None,
        "before": _said(quantity, own["now"], shot.show),
        "rows": rows,
        "says": "" if rows else "Nothing that could still be measured would help much.",
    }


def _on(frame: int | None, shift: int) -> str:
    return "" if frame is None else f", on frame {frame + shift}"


def _said(quantity: str, value: float, show) -> str:
    if quantity == "focal":
        return f"{value:.3%}"
    if quantity == "direction":
        return format_value(value, unit="°", places=3)[0]
    return show.length(value, value / 30)[0]
