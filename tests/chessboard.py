"""The calibration photographs of Debian's opencv-doc package: a real camera, with intrinsics
published beside them."""

from pathlib import Path

import cv2
import numpy as np

from aperture.match.document import FORMAT

FOLDER = Path("/usr/share/doc/opencv-doc/examples/data")
PATTERN = (9, 6)  # inner corners


def intrinsics() -> tuple[np.ndarray, np.ndarray]:
    """The published camera matrix (3, 3), in OpenCV's pixel centres, and distortion k1 k2 p1 p2
    k3."""
    storage = cv2.FileStorage(str(FOLDER / "left_intrinsics.yml"), cv2.FILE_STORAGE_READ)
    return storage.getNode("camera_matrix").mat(), storage.getNode(
        "distortion_coefficients"
    ).mat().ravel()


def photographs():
    """(name, size, corners (6, 9, 2) px) of every photograph on which OpenCV finds the whole board.
    Corners in our coordinates: + 0.5."""
    for path in sorted(FOLDER.glob("left[0-9][0-9].jpg")):
        grey = cv2.imread(str(path), cv2.IMREAD_GRAYSCALE)
        found, corners = cv2.findChessboardCorners(grey, PATTERN)
        if found:
            corners = cv2.cornerSubPix(
                grey,
                corners,
                (5, 5),
                (-1, -1),
                (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_COUNT, 40, 1e-4),
            )
            yield path.name, grey.shape[::-1], corners.reshape(PATTERN[1], PATTERN[0], 2) + 0.5


def document(size, corners, sigma_px=None) -> dict:
    """A match document: the board's rows across, its columns up; principal point and distortion as
    published."""
    matrix, (k1, k2, p1, p2, k3) = intrinsics()
    sigma_px = sigma_px or published_error()
    marks = [
        {
            "id": f"r{i}",
            "kind": "edge",
            "axis": "across",
            "points": row.tolist(),
            "sigma_px": sigma_px,
        }
        for i, row in enumerate(corners)
    ]
    marks += [
        {
            "id": f"c{i}",
            "kind": "edge",
            "axis": "up",
            "points": column.tolist(),
            "sigma_px": sigma_px,
        }
        for i, column in enumerate(corners.transpose(1, 0, 2))
    ]
    return {
        "format": FORMAT,
        "version": 1,
        "image": {"width": size[0], "height": size[1]},
        "lens": {
            "focal_mm": None,
            "principal_point": [float(matrix[0, 2]) + 0.5, float(matrix[1, 2]) + 0.5],
            "distortion": {
                "k1": float(k1),
                "k2": float(k2),
                "k3": float(k3),
                "p1": float(p1),
                "p2": float(p2),
            },
        },
        "marks": marks,
        "facts": [],
    }


def published_error() -> float:
    """The average reprojection error, px, published beside the intrinsics: how far these corners
    can be trusted."""
    storage = cv2.FileStorage(str(FOLDER / "left_intrinsics.yml"), cv2.FILE_STORAGE_READ)
    return storage.getNode("avg_reprojection_error").real()
