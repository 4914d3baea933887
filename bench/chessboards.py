"""Bow marks alone, on real photographs: how a calibrated lens bends, against the intrinsics
published with the photographs."""

import numpy as np

from aperture.lens.lens import Lens
from aperture.match.document import FORMAT
from aperture.match.solve import solve
from tests.chessboard import intrinsics, photographs, published_error

FREE = ["k1", "k2", "k3", "p1", "p2"]


def bows(corners, name="") -> list[dict]:
    """The rows and columns of a board (6, 9, 2) px as bows."""
    lines = [*corners, *corners.transpose(1, 0, 2)]
    return [
        {
            "id": f"{name}b{index}",
            "kind": "bow",
            "points": line.tolist(),
            "sigma_px": published_error(),
        }
        for index, line in enumerate(lines)
    ]


def document(size, marks, free, given=()) -> dict:
    """Focal length and principal point as published; so are the coefficients named in `given`;
    those of `free` are to be found."""
    matrix, (k1, k2, p1, p2, k3) = intrinsics()
    published = {"k1": k1, "k2": k2, "k3": k3, "p1": p1, "p2": p2}
    # One millimetre a pixel: the published focal length is in pixels.
    return {
        "format": FORMAT,
        "version": 1,
        "image": {"width": size[0], "height": size[1]},
        "gate": {"width_mm": float(size[0]), "height_mm": float(size[1])},
        "lens": {
            "focal_mm": {"value": float(matrix[1, 1]), "plus_minus": 0},
            "principal_point": [float(matrix[0, 2]) + 0.5, float(matrix[1, 2]) + 0.5],
            "distortion": {"free": list(free)} | {name: float(published[name]) for name in given},
        },
        "marks": marks,
        "facts": [],
    }


def straightness(size, lens_found: dict, corners) -> float:
    """rms distance, px, of a board's corners from the straight lines through its rows, once the
    found lens has straightened them."""
    matrix, _ = intrinsics()
    focal, centre = float(matrix[1, 1]), np.array([matrix[0, 2] + 0.5, matrix[1, 2] + 0.5])
    lens = Lens(focal, coefficients=tuple(lens_found["distortion"][name] for name in FREE))
    squares, count = 0.0, 0
    for row in corners:
        rays = lens.rays(row - centre)
        flat = np.stack([rays[:, 0], -rays[:, 1]], -1) / -rays[:, 2:] * focal
        off = np.linalg.svd(flat - flat.mean(axis=0))[1][1]
        squares, count = squares + off**2, count + len(row)
    return float(np.sqrt(squares / count))


def study() -> dict:
    """All photographs together with all five free; each alone with k1 free."""
    published, every, alone, boards = intrinsics()[1][0], [], [], []
    for name, size, corners in photographs():
        boards.append(corners)
        every += bows(corners, name)
        lens = solve(document(size, bows(corners), ["k1"], FREE[1:])).document["lens"]
        alone.append(
            (lens["distortion"]["k1"] - published) / lens["plus_minus"]["distortion"]["k1"]
        )
    lens = solve(document(size, every, FREE)).document["lens"]
    k1, spread = lens["distortion"]["k1"], lens["plus_minus"]["distortion"]["k1"]
    return {
        "published": published,
        "k1": k1,
        "plus_minus": spread,
        "off": (k1 - published) / spread,
        "alone": np.array(alone),
        "straight": [straightness(size, lens, corners) for corners in boards],
    }


def report() -> None:
    """Print it."""
    found = study()
    print(
        f"\nBows alone on {len(found['alone'])} chessboard photographs of opencv-doc; reference:"
        " the intrinsics published with them"
    )
    print(
        f"  k1 {found['k1']:.4f} ± {found['plus_minus']:.4f}, published {found['published']:.4f}:"
        f" {abs(found['off']):.1f} of its ± off (wanted 2)"
    )
    print(
        f"  each photograph alone, k1 free: {np.mean(np.abs(found['alone']) < 2):.0%} within 2 ±,"
        f" the furthest {np.abs(found['alone']).max():.1f}"
    )
    print(
        f"  rows once straightened: {np.median(found['straight']):.3f} px rms, at most"
        f" {max(found['straight']):.3f} (wanted 0.25)"
    )


if __name__ == "__main__":
    report()
