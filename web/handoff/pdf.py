"""Camera sheets and storyboards as PDF, by ReportLab."""

import io
from functools import cache
from pathlib import Path
from xml.sax.saxutils import escape

import numpy as np
import reportlab
from django.utils import timezone
from PIL import Image as Pictures
from reportlab.graphics import shapes
from reportlab.lib import colors
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.platypus import (
    BaseDocTemplate,
    Flowable,
    Frame,
    Image,
    KeepTogether,
    PageBreak,
    PageTemplate,
    Paragraph,
    Preformatted,
    Spacer,
    Table,
)
from reportlab.platypus.tableofcontents import TableOfContents

from aperture.render.compose import burn_in
from aperture.scene.plan import Drawing
from web.gates.gate import chain_of
from web.gates.page import drawing as chain_drawing
from web.handoff.camera_sheet import CameraSheet, Series, camera_sheet, picture_of, slate_of
from web.handoff.storyboard import Panel, jpeg_of, panel_of
from web.lineup.snapshots import FONT, facts
from web.shows.models import Shot, Show
from web.ui.rows import Row

INK, QUIET, RULE = (
    colors.HexColor("#1F262B"),
    colors.HexColor("#5B6368"),
    colors.HexColor("#D8D2C4"),
)
ACCENT = colors.HexColor("#13556B")
MARGIN = 15 * mm
WIDE = A4[0] - 2 * MARGIN
HALF = WIDE / 2 - 3 * mm
DRAWN_HIGH, CURVE_HIGH = 46 * mm, 16 * mm
# The fonts that come with ReportLab have the letters of western Europe; what else there is, is said
# by the nearest letter, or "?".
PLAIN = {"σ": "sigma", "↕": "|", "→": ">", "′": "'", "″": '"', "⌒": "~", "µ": "u"}
BOARD_COLUMNS = 2
PICTURE_PX = 560  # so that what is burnt in can be read at this size


@cache
def _fonts() -> frozenset[int]:
    """Make the fonts known; the characters that they have."""
    folder = Path(reportlab.__file__).parent / "fonts"
    regular = TTFont("Sheet", str(folder / "Vera.ttf"))
    pdfmetrics.registerFont(regular)
    pdfmetrics.registerFont(TTFont("Sheet-Bold", str(folder / "VeraBd.ttf")))
    pdfmetrics.registerFontFamily("Sheet", normal="Sheet", bold="Sheet-Bold")
    return frozenset(regular.face.charToGlyph)


def _said(text: str) -> str:
    """Text with characters that the fonts have."""
    known = _fonts()
    return "".join(one if ord(one) in known or one == "\n" else PLAIN.get(one, "?") for one in text)


def _style(size: float, bold: bool = False, colour=INK, **more) -> ParagraphStyle:
    _fonts()
    font = "Sheet-Bold" if bold else "Sheet"
    return ParagraphStyle(
        "sheet", fontName=font, fontSize=size, leading=size * 1.35, textColor=colour, **more
    )


def _text(text: str, size: float = 8, bold: bool = False, colour=INK, **more) -> Paragraph:
    return Paragraph(escape(_said(text)).replace("\n", "<br/>"), _style(size, bold, colour, **more))


class _Document(BaseDocTemplate):
    """A4 with a line at the foot; a flowable with `entry` goes into the index."""

    def __init__(self, file, title: str) -> None:
        super().__init__(
            file,
            pagesize=A4,
            leftMargin=MARGIN,
            rightMargin=MARGIN,
            topMargin=MARGIN,
            bottomMargin=MARGIN,
            title=title,
            author="Accurate Aperture",
        )
        frame = Frame(MARGIN, MARGIN, WIDE, A4[1] - 2 * MARGIN, 0, 0, 0, 0)
        self.addPageTemplates(PageTemplate("page", [frame], onPage=self._foot))
        self._title = title

    def _foot(self, canvas, _) -> None:
        canvas.saveState()
        canvas.setFont("Sheet", 7)
        canvas.setFillColor(QUIET)
        canvas.drawString(MARGIN, MARGIN / 2, _said(self._title))
        canvas.drawRightString(A4[0] - MARGIN, MARGIN / 2, str(canvas.getPageNumber()))
        canvas.restoreState()

    def afterFlowable(self, flowable: Flowable) -> None:  # noqa: N802, D102 - ReportLab's name
        entry = getattr(flowable, "entry", None)
        if entry:
            key = f"entry-{self.page}"
            self.canv.bookmarkPage(key)
            self.canv.addOutlineEntry(entry, key)
            self.notify("TOCEntry", (0, escape(entry), self.page, key))


def sheet_pdf(shot: Shot) -> bytes:
    """One shot's camera sheet."""
    return _built(f"{shot.show.name}, {shot.code}: camera sheet", _sheet(camera_sheet(shot)))


def sheets_pdf(show: Show, shots: list[Shot]) -> bytes:
    """The camera sheets of several shots, after an index."""
    index = TableOfContents()
    index.levelStyles = [_style(9, leftIndent=0, spaceBefore=3)]
    story: list[Flowable] = [_text(show.name, 18, True), _text("Camera sheets", 10, colour=QUIET)]
    story += [Spacer(0, 6 * mm), index]
    for shot in shots:
        story += [PageBreak(), *_sheet(camera_sheet(shot))]
    return _built(f"{show.name}: camera sheets", story)


def storyboard_pdf(show: Show, shots: list[Shot], kind: str = "plate") -> bytes:
    """Several shots on a page, each with its picture (a kind of `storyboard.PICTURES`) and how the
    camera moves, description, lens and notes.
    """
    cells = [_panel(panel_of(shot, kind)) for shot in shots]
    cells += [[]] * (-len(cells) % BOARD_COLUMNS)
    rows = [cells[at : at + BOARD_COLUMNS] for at in range(0, len(cells), BOARD_COLUMNS)]
    story: list[Flowable] = [_text(f"{show.name}: storyboard", 14, True), Spacer(0, 4 * mm)]
    for row in rows:
        table = Table([row], colWidths=[WIDE / BOARD_COLUMNS] * BOARD_COLUMNS)
        table.setStyle(
            [("VALIGN", (0, 0), (-1, -1), "TOP"), ("BOTTOMPADDING", (0, 0), (-1, -1), 10)]
        )
        story.append(KeepTogether(table))
    return _built(f"{show.name}: storyboard", story)


def _built(title: str, story: list[Flowable]) -> bytes:
    file = io.BytesIO()
    _Document(file, title).multiBuild(story)
    return file.getvalue()


def _panel(panel: Panel) -> list[Flowable]:
    shot = panel.shot
    slate = " · ".join(f"{row.name} {row.value}" for row in slate_of(shot))
    wide = WIDE / BOARD_COLUMNS - 6 * mm
    made = jpeg_of(panel, PICTURE_PX)
    picture = [Image(io.BytesIO(made[0]), wide, wide * made[1])] if made else []
    out: list[Flowable] = [*picture, _text(shot.code, 9, True)]
    told = ((slate, QUIET), (shot.description, INK), (shot.notes[:600], QUIET), (panel.lens, QUIET))
    for words, colour in told:
        if words:
            out.append(_text(words, 8, colour=colour))
    return out


def _picture(shot: Shot, wide: float, lines) -> list[Flowable]:
    path = picture_of(shot)
    if path is None or not path.exists():
        return []
    with Pictures.open(path) as opened:
        picture = opened.convert("RGB")
    picture.thumbnail((PICTURE_PX, PICTURE_PX))
    burn_in(picture, lines, FONT)
    data = io.BytesIO()
    picture.save(data, "JPEG", quality=88)
    data.seek(0)
    return [Image(data, wide, wide * picture.height / picture.width)]


def _sheet(sheet: CameraSheet) -> list[Flowable]:
    """The flowables of one shot."""
    shot, show = sheet.shot, sheet.shot.show
    title = _text(f"{show.name}, {shot.code}", 15, True)
    marker = Spacer(0, 0)  # the document sees what stands in its story, not what stands in a table
    marker.entry = _said(" · ".join(filter(None, (shot.code, shot.description))))
    made = f"revision {shot.head.number}, {shot.head.created:%Y-%m-%d %H:%M} UTC"
    left: list[Flowable] = [_text("CAMERA SHEET", 7, colour=QUIET), title]
    left += [_text(words, 8) for words in (shot.description,) if words]
    left += [_text(made, 7, colour=QUIET), Spacer(0, 2 * mm), *_rows(sheet.slate, HALF)]
    now = timezone.localtime()
    head = _beside(left, _picture(shot, HALF, facts(shot, now)))
    story: list[Flowable] = [marker, head, Spacer(0, 3 * mm)]
    if sheet.missing:
        story.append(_text(sheet.missing, 9, True))
    groups = [_group(name, rows) for name, rows in sheet.figures if rows]
    chain = _chain(shot)
    if chain is not None:
        groups.append([_heading("Gate chain, to scale"), chain])
    story += _two_columns(groups)
    if sheet.drawings:
        pair = [[_heading(one.name), _plan(one, HALF)] for one in sheet.drawings]
        story += [_beside(*pair), Spacer(0, 2 * mm)]
    if sheet.poses:
        story.append(KeepTogether([_heading("The move"), _poses(sheet)]))
    for series in sheet.series:
        story.append(KeepTogether([_curve(series, WIDE)]))
    if sheet.evidence:
        story += [_heading("Evidence it rests on"), _evidence(sheet.evidence)]
    if shot.notes:
        story.append(KeepTogether([_heading("Notes"), _text(shot.notes, 8)]))
    if sheet.check:
        plain = Preformatted(_said("\n".join(sheet.check)), _style(6.5))
        story.append(KeepTogether([_heading("Check of an import"), plain]))
    return story


def _heading(text: str) -> Paragraph:
    return _text(text.upper(), 7, colour=QUIET, spaceBefore=6, spaceAfter=2)


def _beside(left: list[Flowable], right: list[Flowable]) -> Table:
    table = Table([[left, right]], colWidths=[WIDE / 2, WIDE / 2])
    table.setStyle(
        [
            ("VALIGN", (0, 0), (-1, -1), "TOP"),
            ("LEFTPADDING", (0, 0), (-1, -1), 0),
            ("RIGHTPADDING", (0, 0), (-1, -1), 3 * mm),
        ]
    )
    return table


def _group(name: str, rows: list[Row]) -> list[Flowable]:
    return [_heading(name), *_rows(rows, HALF)]


def _two_columns(groups: list[list[Flowable]]) -> list[Flowable]:
    """Groups in pairs, side by side."""
    return [
        _beside(groups[at], groups[at + 1] if at + 1 < len(groups) else [])
        for at in range(0, len(groups), 2)
    ]


def _rows(rows: list[Row], wide: float) -> list[Flowable]:
    if not rows:
        return []
    cells = [
        [
            _text(row.name, 8),
            _text(f"{row.value} {row.plus_minus}".strip(), 8, alignment=2),
            _text(row.origin, 6.5, colour=QUIET, alignment=2),
        ]
        for row in rows
    ]
    table = Table(cells, colWidths=[wide * 0.38, wide * 0.46, wide * 0.16])
    table.setStyle(_RULED)
    return [table]


_RULED = [
    ("LINEBELOW", (0, 0), (-1, -1), 0.4, RULE),
    ("TOPPADDING", (0, 0), (-1, -1), 1),
    ("BOTTOMPADDING", (0, 0), (-1, -1), 2),
    ("LEFTPADDING", (0, 0), (-1, -1), 0),
    ("RIGHTPADDING", (0, 0), (-1, -1), 2),
    ("VALIGN", (0, 0), (-1, -1), "TOP"),
]


def _evidence(evidence: list[dict]) -> Table:
    cells = []
    for row in evidence:
        amount = "off" if row["off"] else f"{row['residual']} {row['unit']}"
        cells.append(
            [_text(row["letter"], 7), _text(row["name"], 7), _text(amount, 7, alignment=2)]
        )
    cells += [["", "", ""]] * (len(cells) % 2)
    half = len(cells) // 2
    both = [[*cells[at], "", *cells[at + half]] for at in range(half)]
    wide = [5 * mm, HALF - 25 * mm, 20 * mm]
    table = Table(both, colWidths=[*wide, 6 * mm, *wide])
    table.setStyle(_RULED)
    return table


def _poses(sheet: CameraSheet) -> Table:
    show = sheet.shot.show
    head = ["", "Frame", "Across", "Up", "Along", "Pan", "Tilt", "Roll", "Focal length"]
    cells = [[_text(word, 7, colour=QUIET, alignment=0 if not word else 2) for word in head]]
    for pose in sheet.poses:
        camera = pose.camera
        words = [pose.why, str(pose.frame)]
        words += [show.length(float(value), places=3)[0] for value in camera.position]
        words += [f"{np.degrees(angle):z.2f}°".replace("-", "−") for angle in camera.angles]
        words.append(f"{camera.lens.focal_mm:.2f} mm")
        cells.append([_text(words[0], 7), *(_text(word, 7, alignment=2) for word in words[1:])])
    table = Table(cells, colWidths=[WIDE * 0.12, *[WIDE * 0.11] * 8])
    table.setStyle(_RULED)
    return table


def _plan(drawing: Drawing, wide: float) -> shapes.Drawing:
    """Stand-ins, cameras, their fields of view and the path, to scale, with a bar."""
    left, bottom, right, top = drawing.box
    scale = min(wide * 0.94 / max(right - left, 0.1), (DRAWN_HIGH - 8) / max(top - bottom, 0.1))
    out = shapes.Drawing(wide, DRAWN_HIGH)
    looks = {
        "item": {"strokeColor": INK, "fillColor": colors.HexColor("#ECE7DA"), "strokeWidth": 0.6},
        "view": {"strokeColor": ACCENT, "strokeWidth": 0.6, "strokeDashArray": [3, 2]},
        "path": {"strokeColor": ACCENT, "strokeWidth": 1.2},
    }
    for stroke in drawing.strokes:
        points = (stroke.points - [left, bottom]) * scale + [wide * 0.03, 8]
        flat = points.ravel().tolist()
        if stroke.kind == "camera":
            out.add(shapes.Circle(*flat, 2, fillColor=ACCENT, strokeColor=ACCENT))
        elif stroke.closed:
            out.add(shapes.Polygon(flat, **looks[stroke.kind]))
        else:
            out.add(shapes.PolyLine(flat, fillColor=None, **looks[stroke.kind]))
    out.add(shapes.Line(wide * 0.03, 2, wide * 0.03 + scale, 2, strokeColor=QUIET))
    out.add(
        shapes.String(
            wide * 0.03 + scale + 3, 0, "1 m", fontName="Sheet", fontSize=6, fillColor=QUIET
        )
    )
    return out


def _chain(shot: Shot) -> shapes.Drawing | None:
    """The grids of the gate chain on the sensor."""
    chain = chain_of(shot.state)
    if chain is None:
        return None
    drawn = chain_drawing(chain, chain.plate)
    scale = HALF / drawn["wide"]
    out = shapes.Drawing(HALF, drawn["high"] * scale)
    for shape in drawn["shapes"]:
        points = [tuple(map(float, pair.split())) for pair in shape["d"].strip("MZ").split("L")]
        flat = [value for x, y in points for value in (x * scale, (drawn["high"] - y) * scale)]
        strong = shape["kind"] == "plate"
        colour, width = (ACCENT, 1.2) if strong else (INK, 0.6)
        out.add(shapes.Polygon(flat, fillColor=None, strokeColor=colour, strokeWidth=width))
        for line, words in enumerate(shape["says"]):
            at = (drawn["high"] - shape["label_y"]) * scale - 6 * line
            label = shapes.String(
                shape["label_x"] * scale, at, _said(words), fontName="Sheet", fontSize=5
            )
            out.add(label)
    return out


def _curve(series: Series, wide: float) -> shapes.Drawing:
    """A quantity over the frames, its ends and its extremes in figures."""
    out, values = shapes.Drawing(wide, CURVE_HIGH + 10), np.array(series.values)
    low, high = float(values.min()), float(values.max())
    span = max(high - low, 1e-6)
    label = {"fontName": "Sheet", "fontSize": 6, "fillColor": QUIET}
    room = 60
    across = np.linspace(room, wide - 40, len(values))
    up = 4 + (values - low) / span * (CURVE_HIGH - 8)
    out.add(shapes.Rect(room, 0, wide - 40 - room, CURVE_HIGH, fillColor=None, strokeColor=RULE))
    flat = np.stack([across, up], axis=1).ravel().tolist()
    if len(values) > 1:
        out.add(shapes.PolyLine(flat, strokeColor=ACCENT, strokeWidth=0.9, fillColor=None))
    out.add(shapes.String(0, CURVE_HIGH / 2, f"{series.name}, {series.unit}", **label))
    for value, at in ((high, CURVE_HIGH - 6), (low, 1)):
        out.add(shapes.String(wide - 37, at, f"{value:.3g}".replace("-", "−"), **label))
    for frame, at in ((series.frames[0], room), (series.frames[-1], wide - 60)):
        out.add(shapes.String(at, CURVE_HIGH + 2, str(frame), **label))
    return out
