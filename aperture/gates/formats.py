"""Standard formats and their image areas in millimetres.

Each row names where its size comes from. "From memory" means: written down without the standard at
hand, to be checked.
"""

from dataclasses import dataclass


@dataclass(frozen=True)
class Format:
    """`gate_mm`: width, height of the area that is recorded."""

    key: str
    name: str
    gate_mm: tuple[float, float]
    source: str


FORMATS = tuple(
    Format(*row)
    for row in (
        (
            "full-frame-still",
            "Still, 36 × 24 (full frame)",
            (36.0, 24.0),
            "ISO 1007, 135 film; from memory",
        ),
        (
            "full-frame-16-9",
            "Still, 36 × 20.25 (full frame, 16:9)",
            (36.0, 20.25),
            "16:9 crop of 36 × 24, computed",
        ),
        (
            "aps-c",
            "Still, 23.6 × 15.7 (APS-C)",
            (23.6, 15.7),
            "common practice, no source; bodies differ by 0.3 mm",
        ),
        (
            "aps-c-small",
            "Still, 22.3 × 14.9 (APS-C, smaller)",
            (22.3, 14.9),
            "common practice, no source",
        ),
        (
            "four-thirds",
            "Still, 17.3 × 13.0 (4/3 type)",
            (17.3, 13.0),
            "common practice, no source",
        ),
        ("one-inch", "Still, 13.2 × 8.8 (1-inch type)", (13.2, 8.8), "common practice, no source"),
        (
            "phone-third-inch",
            "Phone, 4.8 × 3.6 (1/3-inch type)",
            (4.8, 3.6),
            "common practice, no source",
        ),
        (
            "phone-2-55",
            "Phone, 5.6 × 4.2 (1/2.55-inch type)",
            (5.6, 4.2),
            "common practice, no source",
        ),
        (
            "phone-2-3",
            "Compact or drone, 6.2 × 4.6 (1/2.3-inch type)",
            (6.17, 4.55),
            "common practice, no source",
        ),
        (
            "phone-1-7",
            "Phone, 7.6 × 5.7 (1/1.7-inch type)",
            (7.6, 5.7),
            "common practice, no source",
        ),
        (
            "phone-1-3",
            "Phone, 9.8 × 7.3 (1/1.3-inch type)",
            (9.8, 7.3),
            "common practice, no source",
        ),
        (
            "medium-44-33",
            "Still, 43.8 × 32.9 (medium format)",
            (43.8, 32.9),
            "common practice, no source",
        ),
        (
            "still-645",
            "Roll film, 6 × 4.5",
            (56.0, 41.5),
            "ISO 1222 roll film; nominal, from memory",
        ),
        ("still-66", "Roll film, 6 × 6", (56.0, 56.0), "ISO 1222 roll film; nominal, from memory"),
        ("still-67", "Roll film, 6 × 7", (70.0, 56.0), "ISO 1222 roll film; nominal, from memory"),
        (
            "sheet-45",
            "Sheet film, 4 × 5 in",
            (120.7, 95.3),
            "common practice, no source: 4 × 5 in less the holder's rebate",
        ),
        (
            "two-thirds-inch",
            "Broadcast, 9.6 × 5.4 (2/3-inch, 16:9)",
            (9.6, 5.4),
            "common practice, no source: 11 mm image circle",
        ),
        (
            "35-full",
            "35 mm film, full aperture, 4-perf",
            (24.89, 18.66),
            "SMPTE ST 59; from memory",
        ),
        ("35-academy", "35 mm film, academy", (21.95, 16.0), "SMPTE ST 59; from memory"),
        ("35-anamorphic", "35 mm film, anamorphic 2×", (21.95, 18.6), "SMPTE ST 59; from memory"),
        ("35-three-perf", "35 mm film, 3-perf", (24.89, 13.87), "common practice, no source"),
        ("35-two-perf", "35 mm film, 2-perf", (21.95, 9.35), "common practice, no source"),
        (
            "35-eight-perf",
            "35 mm film, 8-perf, horizontal",
            (37.72, 24.92),
            "common practice, no source",
        ),
        ("65-five-perf", "65 mm film, 5-perf", (52.48, 23.01), "SMPTE ST 215; from memory"),
        (
            "65-fifteen-perf",
            "65 mm film, 15-perf, horizontal",
            (70.41, 52.63),
            "common practice, no source",
        ),
        ("8-standard", "8 mm film", (4.8, 3.5), "common practice, no source"),
        ("8-super", "8 mm film, super", (5.79, 4.01), "SMPTE ST 157; from memory"),
        ("16-standard", "16 mm film", (10.26, 7.49), "SMPTE ST 7; from memory"),
        ("16-wide", "16 mm film, wide", (12.35, 7.42), "SMPTE ST 201; from memory"),
    )
)
BY_KEY = {row.key: row for row in FORMATS}
