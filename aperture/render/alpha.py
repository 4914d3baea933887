"""What an alpha is like: solid, empty, soft where it should be."""

from __future__ import annotations

import numpy as np

from aperture.arrays import Array


def alpha_report(alpha: Array) -> list[str]:
    """Sentences about an alpha (H, W): solid inside, empty outside, soft along the edge, stray
    pixels."""
    import cv2

    solid, empty = alpha > 0.999, alpha < 0.001
    if empty.all():
        return ["Empty everywhere: the picture shows no stand-in."]
    out, kernel = [], np.ones((5, 5), np.uint8)
    inside, outside = (
        cv2.erode(region.astype(np.uint8), kernel, borderValue=1).astype(bool)
        for region in (alpha > 0.5, alpha <= 0.5)
    )
    holes, dirt = int((inside & ~solid).sum()), int((outside & ~empty).sum())
    out.append(
        f"Pixels inside that let the plate through: {holes:,}." if holes else "Solid inside."
    )
    out.append(f"Pixels outside that aren't empty: {dirt:,}." if dirt else "Empty outside.")
    edge = ~inside & ~outside
    hard = edge.any() and not (~solid & ~empty)[edge].any()
    out.append("Its edges are hard: no pixel is half covered." if hard else "Soft along the edge.")
    count, _, sizes, _ = cv2.connectedComponentsWithStats(
        (alpha > 0.02).astype(np.uint8), connectivity=8
    )
    stray = int((sizes[1:count, cv2.CC_STAT_AREA] <= 4).sum())
    out.append(f"Stray specks of up to 4 px: {stray:,}." if stray else "No stray pixels.")
    return out
