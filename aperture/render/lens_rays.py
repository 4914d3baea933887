"""The compiled part of a render with depth of field and motion blur: rays, shading, and their mean.

A block is R rows and C columns of pixels with S rays each; rays are in the order (row, column,
ray). Everything is measured from where the camera stands on the frame, so that embree's single
precision is spent near it.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from aperture.render.tracer import ALBEDO, DARK, MISSED

MATTE, CHECKER, OTHER = 0, 1, 2  # the materials that are shaded here, and all that aren't
# Lifted off its face, a point's own face doesn't shade it: as `Scene.lifted` has it.
LIFT, LIFT_LEAST, LIFT_M = 4e-6, 1e-3, 1e-6
INWARD = 1e-6  # metres: so that a face along a checker's squares doesn't flicker


@njit(cache=True, nogil=True, inline="always")
def _scrambled(value):
    """A pixel's own number, 32 bits: T. Wang's integer hash (from memory)."""
    value = np.uint32(value)
    value = np.uint32((value ^ np.uint32(61)) ^ (value >> np.uint32(16)))
    value = np.uint32(value * np.uint32(9))
    value = np.uint32(value ^ (value >> np.uint32(4)))
    value = np.uint32(value * np.uint32(0x27D4EB2D))
    return np.uint32(value ^ (value >> np.uint32(15)))


@njit(cache=True, nogil=True, fastmath=True)
def make_rays(corners, at, side, places, moments, times, lens, optics, field, out):
    """Fill a block's rays.

    corners : (R + 1, C + 1, 2) where the rays through the pixels' corners meet the plane one metre
    before the camera: right and up.
    at : first row and first column of the block.
    side : S is side².
    places : (M, 2) of the lens opening, M a multiple of S.
    moments : rotations (T, 3, 3), places (T, 3) and zooms (T,) of the camera, from its own on the
    frame. times : (opens, open, readout, least, most, height): frames, as `Shutter` has them; the
    moments lie evenly from least to most.
    lens : radius of the opening, metres, and one over the focus, 0 for infinity.
    optics : (cat's eye, its onset, swirl, width).
    field : (x, y, across, down): the principal point, px, and what makes half diagonals of px.
    out : origins (N, 3), directions (N, 3), weights (N,), and moments (N,) in frames: float32.
    """
    rotations, positions, zooms = moments
    opens, open_, readout, least, most, height = times
    radius, near = lens
    cats_eye, onset, swirl, wide = optics
    origins, directions, weights, instants = out
    rows, columns = corners.shape[0] - 1, corners.shape[1] - 1
    rays, many, count = side * side, len(places), len(zooms)
    span = most - least
    n = 0
    for row in range(rows):
        down = at[0] + row
        late = readout * ((down + 0.5) / height - 0.5)
        for column in range(columns):
            across = at[1] + column
            own = _scrambled(down * 65_537 + across)
            begin = (own % np.uint32(many // rays)) * rays
            aside = (own >> np.uint32(8)) / 16_777_216.0
            field_x = (across + 0.5 - field[0]) * field[2]
            field_y = (field[1] - down - 0.5) * field[3]
            away = math.hypot(field_x, field_y)
            cut = 0.0
            if cats_eye > 0 and away > onset:
                cut = 2 * cats_eye * (away - onset) / (1 - onset) / away
            total = 0.0
            for ray in range(rays):
                u, v = places[begin + ray, 0], places[begin + ray, 1]
                weight = 1.0
                if cut > 0 and (u + cut * field_x) ** 2 + (v + cut * field_y) ** 2 > 1:
                    weight = 0.0
                u *= wide
                if swirl != 0 and away > 1e-9:
                    cos, sin = field_x / away, field_y / away
                    along = 1 + swirl * away * away
                    radial = (u * cos + v * sin) / along
                    around = (v * cos - u * sin) * along
                    u, v = radial * cos - around * sin, radial * sin + around * cos
                u *= radius
                v *= radius
                # Within the pixel, evenly; in time too, in an order that shares nothing with it.
                right = (ray % side + 0.5) / side
                below = (ray // side + 0.5) / side
                share = (((ray * 7 + 3) % rays) + aside) / rays
                moment = opens + open_ * share + late
                index = int((moment - least) / span * (count - 1) + 0.5) if span > 0 else 0
                zoom = zooms[index]
                a, b = corners[row, column], corners[row, column + 1]
                c, d = corners[row + 1, column], corners[row + 1, column + 1]
                top, bottom = (1 - below), below
                px = top * (a[0] * (1 - right) + b[0] * right)
                px += bottom * (c[0] * (1 - right) + d[0] * right)
                py = top * (a[1] * (1 - right) + b[1] * right)
                py += bottom * (c[1] * (1 - right) + d[1] * right)
                # From the opening to the point of the focus plane, both over the focus.
                dx, dy, dz = px * zoom - u * near, py * zoom - v * near, -1.0
                long = 1 / math.sqrt(dx * dx + dy * dy + 1)
                dx, dy, dz = dx * long, dy * long, dz * long
                turn, place = rotations[index], positions[index]
                for axis in range(3):
                    directions[n, axis] = (
                        turn[axis, 0] * dx + turn[axis, 1] * dy + turn[axis, 2] * dz
                    )
                    origins[n, axis] = place[axis] + turn[axis, 0] * u + turn[axis, 1] * v
                weights[n] = weight
                instants[n] = moment
                total += weight
                n += 1
            # What the barrel cuts makes the spot smaller, not the picture darker: that is
            # vignetting, which has its own figure.
            if total > 0:
                for ray in range(rays):
                    weights[n - rays + ray] /= total
            else:
                for ray in range(rays):
                    weights[n - rays + ray] = 1.0 / rays


@njit(cache=True, nogil=True, fastmath=True)
def make_rays_around(longitudes, latitudes, aside, at, side, moments, times, out):
    """Fill a block's rays of a panorama, which leave from one place at a time, or from beside it.

    longitudes : (C · side, 2) sine and cosine of each column of rays.
    latitudes : (R · side, 2) c and s of each row: the ray is (c sin λ, s, −c cos λ).
    aside : (R · side,) metres that the rays of a row leave to the right of where they look.
    at, side, moments, times, out : as `make_rays` has them; zooms don't count.
    """
    rotations, positions, zooms = moments
    opens, open_, readout, least, most, height = times
    origins, directions, weights, instants = out
    rows, columns = len(latitudes) // side, len(longitudes) // side
    rays, count = side * side, len(zooms)
    span = most - least
    n = 0
    for row in range(rows):
        late = readout * ((at[0] + row + 0.5) / height - 0.5)
        for column in range(columns):
            own = _scrambled((at[0] + row) * 65_537 + at[1] + column)
            begin = (own >> np.uint32(8)) / 16_777_216.0
            for ray in range(rays):
                sin, cos = longitudes[column * side + ray % side]
                c, s = latitudes[row * side + ray // side]
                reach = aside[row * side + ray // side]
                share = (((ray * 7 + 3) % rays) + begin) / rays
                moment = opens + open_ * share + late
                index = int((moment - least) / span * (count - 1) + 0.5) if span > 0 else 0
                long = 1 / math.sqrt(c * c + s * s)
                dx, dy, dz = c * sin * long, s * long, -c * cos * long
                turn, place = rotations[index], positions[index]
                for axis in range(3):
                    directions[n, axis] = (
                        turn[axis, 0] * dx + turn[axis, 1] * dy + turn[axis, 2] * dz
                    )
                    sideways = turn[axis, 0] * cos + turn[axis, 2] * sin
                    origins[n, axis] = place[axis] + reach * sideways
                weights[n] = 1.0 / rays
                instants[n] = moment
                n += 1


@njit(cache=True, nogil=True, fastmath=True)
def toward_sun(met, rays, faces, sun, reach, out):
    """List the rays whose points face the sun.

    met : items (N,) and primitives (N,) as embree has them.
    rays : origins, directions, weights, as `make_rays` fills them.
    faces : starts (I + 1,), normals (F, 3), offsets (F,) and catches (I,), as `Scene` has them.
    sun : (3,) unit.
    reach : metres of the scene, for the lift.
    out : points (N, 3) float32, which ray each is (N,) int32, and per ray its distance (N,), how
    far its normal points up (N,) and faces the sun (N,), float32.

    Returns how many are listed.
    """
    items, primitives = met
    origins, directions, weights = rays
    starts, normals, offsets, catches = faces
    points, which, distances, ups, facings = out
    listed = 0
    for n in range(len(items)):
        item = items[n]
        if item == MISSED or catches[item] or weights[n] == 0:
            continue
        face = starts[item] + primitives[n]
        a, b, c = normals[face, 0], normals[face, 1], normals[face, 2]
        dx, dy, dz = directions[n, 0], directions[n, 1], directions[n, 2]
        ox, oy, oz = origins[n, 0], origins[n, 1], origins[n, 2]
        slope = a * dx + b * dy + c * dz
        if slope == 0:
            slope = 1e-30
        far = (offsets[face] - (a * ox + b * oy + c * oz)) / slope
        if slope > 0:
            a, b, c = -a, -b, -c
        distances[n] = far
        ups[n] = b
        facing = a * sun[0] + b * sun[1] + c * sun[2]
        facings[n] = max(facing, 0.0)
        if facing <= 0:
            continue
        x, y, z = ox + far * dx, oy + far * dy, oz + far * dz
        lift = LIFT * max(math.sqrt(x * x + y * y + z * z), LIFT_LEAST * reach) + LIFT_M
        points[listed, 0] = x + lift * a
        points[listed, 1] = y + lift * b
        points[listed, 2] = z + lift * c
        which[listed] = n
        listed += 1
    return listed


@njit(cache=True, nogil=True, fastmath=True)
def shade(met, rays, faces, seen, looks, light, out):
    """Add up what the rays bring; of materials that aren't shaded here, only that they are met.

    met, rays, faces : as `toward_sun` takes them.
    seen : distances, ups and facings, as it fills them; the facing of what lies in shadow is 0.
    looks : materials (I,), sizes of checkers (I,), bases (I, 3) from the camera, rotations (I, 3,
    3).
    light : (sun, ambient, gain).
    out : beauty (R · C, 4) and masks (R · C, I or 0), set to 0 but for the light of other
    materials.
    """
    items, primitives = met
    origins, directions, weights = rays
    starts, normals, _, catches = faces
    distances, ups, facings = seen
    materials, checkers, bases, turns = looks
    sun, ambient, gain = light
    beauty, masks = out
    rays_each = len(items) // len(beauty)
    for pixel in range(len(beauty)):
        total, cover = 0.0, 0.0
        for n in range(pixel * rays_each, (pixel + 1) * rays_each):
            item = items[n]
            if item == MISSED:
                continue
            if masks.shape[1] > 0:
                masks[pixel, item] += weights[n]
            if catches[item] or weights[n] == 0:
                continue
            if materials[item] == OTHER:
                cover += weights[n]
                continue
            albedo = ALBEDO
            if materials[item] == CHECKER:
                face = starts[item] + primitives[n]
                inward = INWARD
                slope = 0.0
                for axis in range(3):
                    slope += normals[face, axis] * directions[n, axis]
                if slope > 0:
                    inward = -INWARD
                squares = 0
                for own in range(3):
                    local = 0.0
                    for axis in range(3):
                        at = origins[n, axis] + distances[n] * directions[n, axis]
                        at -= bases[item, axis] + inward * normals[face, axis]
                        local += at * turns[item, axis, own]
                    squares += int(math.floor(local / checkers[item]))
                if squares % 2 == 1:
                    albedo = DARK
            given = ambient * (0.75 + 0.25 * ups[n]) + sun * facings[n]
            total += weights[n] * albedo * given
            cover += weights[n]
        for channel in range(3):
            beauty[pixel, channel] += gain * total
        beauty[pixel, 3] = cover
