"""What the Plate page says about a filmed plate."""

from collections.abc import Callable

import numpy as np

from aperture.errors import Problem
from aperture.light.exposure import format_seconds, format_stop
from aperture.plates.film import Film as Filmed
from aperture.plates.sequences import ranges_of
from aperture.timecode import DROPPED, counted_rate, format_timecode, parse_timecode
from aperture.units import format_rate
from web.jobs.models import Job
from web.plates import flash_actions
from web.plates.frames import frame_at, way_of
from web.plates.referred import altered
from web.shows.models import Shot
from web.ui.rows import Remark, Row

# What other steps know of a shot that its plate's page should tell: (remarks, a job that may be
# under way).
_about: list[Callable[[Shot], tuple[list[Remark], Job | None]]] = []


def register_about(find: Callable[[Shot], tuple[list[Remark], Job | None]]) -> None:
    """Tell something more on the page of the plate; called by the app that knows."""
    _about[:] = [find]


def about_shot(shot: Shot) -> tuple[list[Remark], Job | None]:
    """What other steps know of a shot."""
    return _about[0](shot) if _about else ([], None)


def about_film(film, show, back: str) -> list[Remark]:
    """What was found on the way in, and a rate that isn't the show's."""
    out = [Remark("About this film", note, "note") for note in film.notes]
    changed, gone = altered(film)
    for numbers, what in ((changed, "changed since"), (gone, "gone, or out of reach")):
        if numbers:
            which = "The movie" if numbers == [0] else f"Pictures {ranges_of(numbers)[:200]}"
            says = f"{which}: {what}. Bring the plate in anew from the server’s folders."
            out.append(Remark("Files that this plate refers to", says, "bad"))
    if film.unshown:
        numbers = sorted(map(int, film.unshown))
        says = f"{ranges_of(numbers)}. {film.unshown[str(numbers[0])]}"
        out.append(Remark("Pictures that can’t be shown", says, "doubt"))
    if film.rate and film.rate != show.rate:
        out.append(
            Remark(
                "Another rate than the show’s",
                f"The movie has {format_rate(film.rate)} frames a second, the show"
                f" {show.rate_text}. Frames count the movie’s pictures.",
                "doubt",
                (
                    (
                        f"Run the show at {format_rate(film.rate)}",
                        {
                            "action": f"/shows/{show.slug}/rate",
                            "fields": {"rate": str(film.rate), "back": back},
                        },
                    ),
                ),
            )
        )
    return out


def clapper(shot, film) -> dict:
    """The flashes that were found, each with its frame, and in which part of the picture they were
    looked for."""
    looked = flash_actions.found(film)
    if looked is None:
        return {"looked": False}
    flashes, region = looked
    way, size = way_of(shot.state), (film.width, film.height)
    if region:
        corners = way.points(np.reshape(region, (2, 2)) * size, size) / way.size(*size)
        region = *corners.min(axis=0), *corners.max(axis=0)
    places = way.points([np.multiply(flash.at, size) for flash in flashes], size)
    return {
        "looked": True,
        "region": ",".join(f"{share:.4f}" for share in region) if region else "",
        "flashes": [
            {
                "number": flash.number,
                "frame": frame_at(shot.state, flash.number),
                "x": x,
                "y": y,
                "colour": flash_actions.colour_word(flash.colour),
                "rise": f"{100 * flash.rise:.0f} %",
                "ordinary": f"{100 * flash.ordinary:.1f} %",
                "wide": flash.wide,
            }
            for flash, (x, y) in zip(flashes, places.tolist())
        ],
    }


def film_rows(film, state) -> list[Row]:
    """What is known of a filmed plate."""
    first, last = (frame_at(state, number) for number in (film.first, film.last))
    rate = f"{format_rate(film.rate)} fps" if film.rate else "–"
    apart = state["film"]["offset"] - state["shift"]
    against = (
        [Row("Pictures against the shot", f"{apart:+} frames", origin="typed")] if apart else []
    )
    return [
        Row("File", film.name, origin="file"),
        Row("Kind", film.kind, origin="file"),
        Row("Pictures", f"{film.count:,}", origin="file"),
        Row("Frames", f"{first}–{last}", origin="file" if first == film.first else "typed"),
        *against,
        Row("Rate", rate, origin="file" if film.rate else ""),
        Row("Worked on", f"frame {frame_at(state)}", origin="typed"),
    ]


NAMES = {
    "focal_mm": ("Focal length", lambda value: f"{value:g} mm"),
    "focus_m": ("Focused at", lambda value: f"{value:.4g} m"),
    "f_number": ("Stop", format_stop),
    "exposure_time": ("Exposure time", format_seconds),
    "iso": ("ISO", lambda value: f"{value:g}"),
}
CURVE = 340, 48  # px


def curves(film, state) -> list[dict]:
    """What changes from picture to picture, as drawings of CURVE: name, from what to what, the
    line, and the frame worked on."""
    wide, high = CURVE
    out = []
    for key, points in film.told.get("curves", {}).items():
        if key not in NAMES:
            continue
        name, write = NAMES[key]
        numbers, values = np.array(points, float).T
        low, most = values.min(), values.max()
        across = 4 + (wide - 8) * (numbers - film.first) / max(1, film.last - film.first)
        down = high - 5 - (high - 10) * (values - low) / (most - low)
        now = int(np.abs(numbers - state["film"]["shown"]).argmin())
        out.append(
            {
                "name": name,
                "says": f"{write(low)} to {write(most)}",
                "now": write(values[now]),
                "line": " ".join(f"{x:.1f},{y:.1f}" for x, y in zip(across, down)),
                "x": f"{across[now]:.1f}",
                "y": f"{down[now]:.1f}",
            }
        )
    return out


def timecode_of(film, rate) -> dict | None:
    """The time code of the first picture, counted in frames, and how the rate counts; None where
    the files carry none."""
    filmed = Filmed.read(film.folder)
    told = film.told.get("curves", {}).get("timecode") or []
    number, text = film.first, ""
    if filmed.movie:
        text = filmed.movie.timecode
    elif told:
        number, text = told[0]
    if not text:
        return None
    drop = text[-3] in ";."
    try:
        start = parse_timecode(text, rate)
        format_timecode(start, rate, drop)
    except Problem:  # of another rate than the one that is played
        return None
    return {
        "start": start - (number - film.first),
        "count": counted_rate(rate),
        "left_out": DROPPED[rate] if drop else 0,
    }
