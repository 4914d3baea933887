"""What the Line-up page shows: pictures, wireframe and arrows for its script, rows and remarks."""

from aperture.scene.overlay import wire
from web.elements.actions import KIND
from web.jobs.models import Job
from web.lineup import plate_edges
from web.lineup.models import Returned
from web.match.overlay import path_of
from web.match.path_fits import camera_of_state
from web.plates.frames import frames_now, shifted_since, span_of
from web.stage.along import plays
from web.stage.stand_ins import shown, stand_in_from
from web.ui.rows import Remark, Row

UNFINISHED = {
    KIND: "The last render did not finish",
    plate_edges.KIND: "Measuring did not finish",
}
LOOKS = (
    ("over", "Over", "O", "Render over the plate"),
    ("plate", "Plate", "P", "Plate alone"),
    ("alpha", "Alpha", "A", "Alpha alone"),
    ("difference", "Difference", "X", "Difference of the two"),
    ("flicker", "Flicker", "K", "Flicker between the two"),
)


def page_data(shot, own, chosen, against=None) -> dict:
    """Everything the script needs. `against`: a render, ours or one brought back, that lies on the
    plate where the chosen one isn't shown."""
    camera = camera_of_state(shot.state)
    row = chosen or own
    base = _base(shot, row)
    return {
        "wire": (
            [path_of(wire(camera, stand_in_from(item))) for item in shown(shot.state)]
            if camera
            else []
        ),
        "arrows": chosen.offsets.get("arrows", []) if chosen else [],
        "arrows_frame": _worst(shot.state, chosen) if chosen else None,
        "render": base + "render.png" if base else None,
        "alpha": base + "alpha.png",
        "frames": frames_now(shot.state, row) if row else [],
        "shift": shifted_since(shot.state, row) if row else 0,
        "shade": (
            base + "shade.png"
            if own and not chosen and (own.of_frame(None) / "shade.png").exists()
            else None
        ),
        "against": _base(shot, against) + "render.png" if against else None,
        "returned": chosen.pk if chosen else None,
        "values": shot.url("lineup-values"),
        "seen": shot.url("set-seen") if plays(shot.state) else "",
        "edges": shot.url("lineup-edges") if camera else None,
    }


def _worst(state, chosen) -> int | None:
    """The frame of a returned render that is farthest off."""
    frame = chosen.offsets.get("frame")
    return None if frame is None else frame + shifted_since(state, chosen)


def _base(shot, row) -> str:
    """Where a render's files are; empty without one."""
    if row is None:
        return ""
    return (
        shot.url("lineup") + f"/returned/{row.pk}/"
        if isinstance(row, Returned)
        else shot.url("elements") + f"/{row.pk}/"
    )


def rows(state, own, chosen) -> list[Row]:
    """The render's figures."""
    if chosen:
        if not (found := chosen.offsets):
            return []
        frame = [Row("Worst frame", str(_worst(state, chosen)))] if found.get("frames") else []
        return [
            *frame,
            Row("Outlines off, median", f"{found['median']:.2f} px"),
            Row("95 % within", f"{found['most']:.2f} px"),
            Row("Measured at", f"{found['points']} points"),
            *(
                Row(f"95 % of {name}", f"{most:.2f} px", title=f"at {points} points of its outline")
                for name, most, points in found.get("items", [])
                if len(found["items"]) > 1
            ),
        ]
    return (
        [
            Row("Size", f"{own.width} × {own.height} px"),
            Row("From revision", str(own.revision)),
            Row("Took", f"{own.seconds:.1f} s"),
        ]
        if own
        else []
    )


def remarks(shot, own, chosen, jobs, now) -> list[Remark]:
    """What needs the artist; `jobs`: the newest of each kind."""
    failed = [
        Remark(
            UNFINISHED.get(job.kind, "Bringing it back did not finish"),
            job.says,
            "bad" if job.state == Job.FAILED else "note",
        )
        for job in jobs
        if job.state in (Job.FAILED, Job.CANCELLED) and (chosen is None or job.kind != KIND)
    ]
    if chosen:
        return failed + _of_count(shot, chosen) + _of_returned(shot.state, chosen, now)
    return failed + _of_own(shot, own, jobs, now)


def _of_returned(state, chosen, now) -> list[Remark]:
    out = [
        Remark("Put right" if mended else "Look at this", says, "note" if mended else "doubt")
        for says, mended in chosen.findings
    ]
    if chosen.digest != now:
        out.append(
            Remark(
                "Compared with an older set",
                "The camera or the stand-ins have changed since it was brought back: take it again,"
                " or bring it in again.",
                "doubt",
            )
        )
    if not chosen.offsets:
        return [
            *out,
            Remark(
                "Not measured",
                "There are too few clean edges in common with the stand-ins to say how far it is"
                " off.",
                "doubt",
            ),
        ]
    frame = f"Frame {_worst(state, chosen)}: " if chosen.offsets.get("frames") else ""
    return out + [
        Remark(
            "How it lies",
            frame + " ".join(chosen.offsets["says"]),
            "good" if chosen.offsets["most"] < 0.25 else "doubt",
        )
    ]


def _of_count(shot, chosen) -> list[Remark]:
    """A sequence whose frames are counted in another way than the shot's: nothing of it lies on a
    frame of the plate."""
    frames, (first, last) = frames_now(shot.state, chosen), span_of(shot.state)
    if not shot.state["film"] or not frames or frames[-1] >= first and frames[0] <= last:
        return []
    by = first - frames[0]
    return [
        Remark(
            "Frames counted in another way",
            f"Its frames are {frames[0]}–{frames[-1]}, the shot’s {first}–{last}: none of them lies"
            " on the plate.",
            "doubt",
            (
                (
                    f"Its first frame is {first}",
                    {
                        "action": shot.url("lineup-recount", chosen.pk),
                        "fields": {"by": str(by)},
                    },
                ),
            ),
        )
    ]


def _of_own(shot, own, jobs, now) -> list[Remark]:
    again = (
        (
            "Render the stand-ins again" if own else "Render the stand-ins",
            {"action": shot.url("elements-again"), "fields": {"back": shot.url("lineup")}},
        ),
    )
    if own is not None and own.digest != now:
        return [
            Remark(
                "This render is old",
                f"It was made from revision {own.revision}; the camera or the stand-ins have"
                " changed since.",
                "doubt",
                again,
            )
        ]
    if own is None and not any(job.under_way for job in jobs):
        return [
            Remark(
                "Nothing rendered yet",
                "Render the stand-ins of the Set step through the matched camera, at the plate’s"
                " exact size.",
                "note",
                again,
            )
        ]
    return []


def curve(state, chosen) -> dict | None:
    """How far off each frame of a sequence is, as a drawing of 340 × 60; None for a still."""
    measured = chosen.offsets.get("frames", []) if chosen else []
    if len(measured) < 2:
        return None
    shift, worst = shifted_since(state, chosen), _worst(state, chosen)
    frames = [(frame + shift, median, most) for frame, median, most in measured]
    first, last, highest = frames[0][0], frames[-1][0], max(median for _, median, _ in frames)
    dots = [
        {
            "x": round(6 + 328 * (frame - first) / (last - first), 1),
            "y": round(58 - 52 * median / max(highest, 0.1), 1),
            "worst": frame == worst,
            "says": f"frame {frame}: {median:.2f} px, 95 % within {most:.2f} px",
        }
        for frame, median, most in frames
    ]
    return {
        "line": " ".join(f"{dot['x']},{dot['y']}" for dot in dots),
        "dots": dots,
        "most": f"{highest:.2f} px",
    }
