"""What a panel of the storyboard shows: its picture, what is written, lens and height, and how the
camera moves."""

import io
import math
from dataclasses import dataclass
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

from aperture.moves.arrows import Arrow, arrows
from web.handoff.camera_sheet import picture_of
from web.lineup.models import Snapshot
from web.lineup.snapshots import FONT
from web.match.path_fits import camera_of_state, placed_path
from web.shows.models import Shot

# What may stand in a panel: the key, and what it is called.
PICTURES = {
    "plate": "the plate",
    "render": "the render",
    "drawing": "the drawing",
    "snapshot": "the newest snapshot",
}


@dataclass(frozen=True)
class Panel:
    """One shot. picture: a file, or None; lens: lens and height in words, empty without a
    camera."""

    shot: Shot
    picture: Path | None
    lens: str
    arrows: list[Arrow]


def panel_of(shot: Shot, kind: str = "plate") -> Panel:
    """A shot's panel; the plate stands where there is no such picture."""
    camera, path = camera_of_state(shot.state), placed_path(shot.state)
    words = ""
    if camera is not None:
        lens = "" if camera.lens.projection.around else f"{camera.lens.focal_mm:.0f} mm, "
        words = f"{lens}{shot.show.length(float(camera.position[1]), places=2)[0]} high"
    found = _picture(shot, kind) or picture_of(shot)
    return Panel(shot, found, words, arrows(path) if path is not None else [])


def _picture(shot: Shot, kind: str) -> Path | None:
    if kind == "snapshot":
        newest = Snapshot.objects.filter(shot=shot).order_by("-pk").first()
        return newest.file if newest and newest.file.exists() else None
    if kind in ("render", "drawing"):
        name = "render.png" if kind == "render" else "lines.png"
        for row in shot.renders.all()[:20]:
            path = row.of_frame(None) / name
            if row.whole and path.exists():
                return path
    return None


INK, CASE = (255, 255, 255), (16, 20, 22)


def jpeg_of(panel: Panel, px: int) -> tuple[bytes, float] | None:
    """A panel's picture with its arrows, at most `px` wide and high, and its height over its width;
    None without a picture."""
    if panel.picture is None or not panel.picture.exists():
        return None
    with Image.open(panel.picture) as opened:
        seen = opened.convert("RGBA")
    picture = Image.new("RGB", seen.size)  # a render stands on black
    picture.paste(seen, mask=seen.getchannel("A"))
    picture.thumbnail((px, px))
    _draw(picture, panel.arrows)
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=88)
    return out.getvalue(), picture.height / picture.width


def _draw(picture: Image.Image, wanted: list[Arrow]) -> None:
    draw = ImageDraw.Draw(picture)
    wide = max(2, picture.width // 160)
    face = ImageFont.truetype(str(FONT), max(10, picture.height // 22))
    for one in wanted:
        begin, end = ((x * picture.width, y * picture.height) for x, y in (one.begin, one.end))
        for colour, more in ((CASE, wide), (INK, 0)):
            draw.line([begin, end], colour, wide + 2 * more)
            draw.polygon(_head(begin, end, 5 * wide + more), colour)
        middle = ((begin[0] + end[0]) / 2, (begin[1] + end[1]) / 2 + 3 * wide)
        # Beside an arrow that goes up or down, under one that goes across; inside the picture.
        anchor, aside = "ma", 0
        if abs(end[1] - begin[1]) > abs(end[0] - begin[0]):
            at_left = middle[0] < picture.width / 2
            anchor, aside = ("lm", 5 * wide) if at_left else ("rm", -5 * wide)
        place = middle[0] + aside, middle[1]
        draw.text(
            place, one.says, INK, face, anchor, stroke_width=max(1, wide // 2), stroke_fill=CASE
        )


def _head(begin, end, size: float) -> list[tuple[float, float]]:
    """The corners of an arrow's head."""
    angle = math.atan2(end[1] - begin[1], end[0] - begin[0])
    return [
        (end[0] + size * math.cos(angle), end[1] + size * math.sin(angle)),
        *(
            (
                end[0] + size * 0.7 * math.cos(angle + turn),
                end[1] + size * 0.7 * math.sin(angle + turn),
            )
            for turn in (2.2, -2.2)
        ),
    ]
