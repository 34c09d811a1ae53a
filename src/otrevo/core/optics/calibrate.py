"""Calibrating a camera volume from a recorded sweep, from nothing: pictures in, cameras out.

1. What never moves, and blobs cut by a picture's edge, are left out (core.optics.blinds). 2. The wand is read in single pictures of some frames
(core.optics.wand_reading). 3. Cameras are placed by what they read together (core.optics.bootstrap). 4. Lenses and places
are adjusted on those frames (core.optics.bundle). 5. The wand is followed through the whole recording
(core.optics.follow_wand) and everything adjusted once more; sightings that do not belong are found by the spread of the
others and left out of the last fit altogether, so that it is the least-squares estimate of what remains.
"""

from dataclasses import dataclass, field

import numpy as np

from otrevo.core.conventions import rigid_move
from otrevo.core.errors import InputError
from otrevo.core.optics.blinds import blinded, cut_off, find_blinds
from otrevo.core.optics.bootstrap import find_focals, place_cameras
from otrevo.core.optics.bundle import SIZE, Fit, Sightings, adjust, normal_equations
from otrevo.core.optics.camera import Camera, pictures_of
from otrevo.core.optics.follow_wand import GATES_PX, follow, nothing_followed
from otrevo.core.optics.picture_reading import is_triangle, name_triangles_in, read_pictures
from otrevo.core.optics.wand_reading import wand_shape

START_FRAMES, FOCAL_FRAMES, SOME_FRAMES = 240, 60, 1500
MOST_FRAMES = 24_000  # of a sweep that are fitted: more cost memory and time, and add next to nothing
REFLECTION_SHARE = 0.6  # in a sweep, what is there this long without moving is no wand
FEWEST_SIGHTINGS = 200  # of a camera
SMALL_PART = 0.1  # of the picture, that must have been swept
FEWEST_CAMERAS, MOST_CAMERAS = 2, 64
COVER_CELLS = (8, 6)
REJECT = 4.0  # times the spread of the sightings, per coordinate
MOVED_M, MOVED_DEG = 0.3, 20.0  # a wand that does less is still


@dataclass(frozen=True)
class SweepCalibration:
    """cameras that could be solved; failed: {name: reason}; figures; rows: figures camera by camera; notes; covariance (15 C,
    15 C) of the cameras' numbers in their order (core.optics.bundle); trail_m (F, 3): the wand's middle, for pictures."""

    cameras: tuple[Camera, ...]
    failed: dict
    figures: dict
    rows: list
    covariance: np.ndarray
    trail_m: np.ndarray
    notes: list = field(default_factory=list)


def _weights(scale_px):
    """Geman-McClure weights over a scale in pixels, none for what is behind a camera."""

    def weigh(r):
        return np.nan_to_num(1.0 / (1.0 + (r**2).sum(1) / scale_px**2) ** 2)

    return weigh


def spread_px(r):
    """Robust standard deviation of residuals (N, 2), per coordinate: the median of their length is 1.1774 of it."""
    length = np.sqrt((r**2).sum(1))
    return float(np.nanmedian(length) / 1.1774)


def calibrate_sweep(centroids, rig, wand, blinds=None, progress=None):
    """Calibrate cameras from a swept wand.

    Parameters
    ----------
    centroids : Centroids
        The sweep, over the cameras of the rig.
    rig : sequence of RigCamera
        Sizes of the pictures and, where known, focal lengths.
    wand : Wand
        The one that was swept.
    blinds : list of Blind, optional
        What never moves in the sweep itself is added to them.
    progress : callable, optional
        Called with the share that is done, 0 to 1. It may raise to stop the work.

    Returns
    -------
    SweepCalibration
        Cameras in a world that is the frame of the best-connected one, with covariance and figures.

    Raises
    ------
    InputError
        When no two cameras can be placed.

    References
    ----------
    Bundle adjustment over cameras and wand poses: B. Triggs et al., Bundle Adjustment, A Modern Synthesis, 2000.
    """
    say = progress or (lambda share: None)
    names = [c.name for c in rig]
    notes = []
    blinds = list(blinds or []) + find_blinds(centroids, len(rig), REFLECTION_SHARE)
    centroids = centroids.only(~(blinded(centroids, blinds) | cut_off(centroids, rig)))
    per_camera = np.bincount(centroids.camera, minlength=len(rig))
    if centroids.frames > MOST_FRAMES:
        notes.append(
            f"the sweep is long: {MOST_FRAMES} of its {centroids.frames} frames are fitted, spread over all of it"
        )
    if not len(centroids) or (per_camera > 0).sum() < FEWEST_CAMERAS:
        raise InputError(f"{int((per_camera > 0).sum())} cameras saw anything that moves; at least two are needed.")
    say(0.05)
    groups, shape = centroids.groups(len(rig)), wand_shape(wand)
    count = len(wand.markers_m)
    full = (np.diff(groups).reshape(-1, len(rig)) >= count).sum(axis=1)
    usable = np.flatnonzero(full >= 2)
    if len(usable) < 20:
        raise InputError(
            f"Only {len(usable)} frames show {count} or more points in two cameras at once; sweep the wand where "
            "several cameras look, and check that this is the wand that was swept."
        )
    frames = _spread(usable, full[usable], START_FRAMES * (3 if is_triangle(shape) else 1))  # few of those are clear
    rng = np.random.default_rng(1)

    def first_lenses(focals):
        return np.array([c.first_lens(f) for c, f in zip(rig, focals, strict=True)])

    known = np.array([np.nan if c.focal_guess_px is None else c.focal_guess_px for c in rig])
    widths = np.array([c.width for c in rig], dtype=float)
    named = None
    if is_triangle(shape):  # who is who hardly depends on the lens
        named = name_triangles_in(
            shape, centroids, groups, frames, first_lenses(np.where(np.isnan(known), widths, known))
        )

    def read(focals, wanted=None, every=1):
        lenses, some = first_lenses(focals), slice(None, None, every)
        told = named and tuple(v[some] for v in named)
        return read_pictures(shape, centroids, groups, frames[some], lenses, wanted, told)

    if np.isnan(known).any():
        every = max(1, len(frames) // (FOCAL_FRAMES * (3 if named else 1)))
        known = find_focals(lambda focals, wanted: read(focals, wanted, every)[0], widths, known, rng)
        notes.append("focal lengths were not given and were found from the sweep")
    positions, which = read(known)
    _check_wand(positions, wand, len(usable))
    poses, connected = place_cameras(positions, rng)
    if len(poses) < FEWEST_CAMERAS:
        raise InputError(
            "No two cameras read the wand together often enough to be placed; sweep where their views overlap, and check "
            "that this is the wand that was swept."
        )
    say(0.2)
    placed = sorted(poses)
    lens_mean = np.array([rig[c].first_lens(known[c]) for c in placed])
    fit, sightings = _start(placed, poses, positions, which, centroids, wand, lens_mean)
    markers = np.ascontiguousarray(wand.markers_m)
    pinhole = np.ones(SIZE, dtype=bool)
    pinhole[8:] = False  # centre and distortion wait until the places are about right
    for scale, free in ((60.0, pinhole), (20.0, pinhole), (10.0, None), (3.0, None)):
        fit, _ = adjust(fit, sightings, markers, _weights(scale), lens_mean, free, 12)
    say(0.4)
    fit, sightings = _everything(fit, placed, centroids, len(rig), shape, wand)
    _check_movement(fit, markers)
    fit, _ = adjust(*_some(fit, sightings), markers, _weights(3.0), lens_mean, None, 6)
    say(0.6)
    fit, sightings = _everything(fit, placed, centroids, len(rig), shape, wand, GATES_PX[-3:])
    fit, sightings, believed, sigma = _final(fit, sightings, markers, lens_mean, lambda s: say(0.65 + 0.25 * s))
    calibration = _report(
        fit, sightings, believed, sigma, placed, rig, wand, lens_mean, connected, per_camera, notes, names
    )
    say(1.0)
    return calibration


def _spread(usable, full, count):
    """Frames spread over the recording, where many cameras see the whole wand."""
    parts = np.array_split(np.arange(len(usable)), min(count, len(usable)))
    return usable[[p[full[p].argmax()] for p in parts]]


def _check_wand(positions, wand, usable):
    read = np.isfinite(positions[..., 0, 0]).sum()
    if read < 20:
        raise InputError(
            f"The wand '{wand.name}' was recognised in only {read} pictures of {usable} frames that could show it; check "
            "that this is the wand that was swept and that its distances are right."
        )


def _check_movement(fit, markers):
    middle = fit.wand_position + np.einsum("fij,j->fi", fit.wand_rotation, markers.mean(0))
    if np.ptp(middle, axis=0).max() < MOVED_M:
        raise InputError(
            f"The wand moved by only {100 * np.ptp(middle, axis=0).max():.0f} cm; sweep it through the whole volume, "
            "turning it as you go."
        )


def _start(placed, poses, positions, which, centroids, wand, lens_mean):
    """A first Fit and Sightings from single readings."""
    markers = wand.markers_m
    read = np.isfinite(positions[:, placed, 0, 0])
    frames = np.flatnonzero(read.sum(1) >= 2)
    rotation = np.array([poses[c][0] for c in placed])
    position = np.array([poses[c][1] for c in placed])
    world = np.einsum("cji,fcmj->fcmi", rotation, positions[frames][:, placed]) + position[:, None]
    middle = np.nanmedian(world, axis=1)  # over the cameras that read it
    wand_rotation, wand_position = rigid_move(np.broadcast_to(markers, middle.shape), middle)
    f, c, m = np.nonzero(which[frames][:, placed] >= 0)
    xy = centroids.xy[which[frames][:, placed][f, c, m]]
    return Fit(lens_mean.copy(), rotation, position, wand_rotation, wand_position), Sightings(f, c, m, xy)


def _everything(fit, placed, centroids, cameras, shape, wand, gates=GATES_PX):
    """All sightings of the recording and the wand's poses, with the cameras as they are known now."""
    keep = np.isin(centroids.camera, placed)
    number = np.full(cameras, -1)
    number[placed] = np.arange(len(placed))
    if len(placed) < cameras:
        centroids = type(centroids)(
            centroids.frame[keep], number[centroids.camera[keep]], centroids.xy[keep], centroids.radius[keep]
        )
    way = nothing_followed(centroids.frames, len(placed), len(wand.markers_m))
    follow(shape, pictures_of(centroids, len(placed)), fit.views, gates, way)
    found = np.flatnonzero(way.score)
    if len(found) > MOST_FRAMES:
        found = found[np.linspace(0, len(found) - 1, MOST_FRAMES).astype(int)]
    if len(found) < 20:
        raise InputError("The wand could be followed in fewer than 20 frames; sweep where several cameras look.")
    f, c, m = np.nonzero(way.which[found] >= 0)
    xy = centroids.xy[way.which[found][f, c, m]]
    return Fit(fit.lens, fit.rotation, fit.position, way.rotation[found], way.position[found]), Sightings(f, c, m, xy)


def _some(fit, sightings):
    """The fit and its sightings on as many frames as show a lens everywhere, for a start of the whole."""
    keep = np.unique(np.linspace(0, len(fit.wand_position) - 1, SOME_FRAMES).astype(int))
    some, frames = sightings.only(np.isin(sightings.frame, keep))
    return Fit(fit.lens, fit.rotation, fit.position, fit.wand_rotation[frames], fit.wand_position[frames]), some


def _final(fit, sightings, markers, lens_mean, say):
    """The least-squares fit to all sightings that belong. Returns fit, sightings, mask of those believed, spread in px."""
    before = None
    for number in range(4):
        r = fit.residuals(sightings, markers)
        sigma = spread_px(r)
        believed = np.nan_to_num((r**2).sum(1), nan=np.inf) < (REJECT * sigma) ** 2 * (4 if number == 0 else 1)
        believed &= _enough(sightings, believed)
        if before is not None and (believed != before).mean() < 1e-5:
            break
        before, weight = believed, believed / max(sigma, 1e-4) ** 2
        fit, _ = adjust(fit, sightings, markers, lambda r, w=weight: w, lens_mean, None, 8, 1e-9, 1e-8)
        say((number + 1) / 4)
    return fit, sightings, believed, sigma


def _enough(sightings, believed):
    """Mask: sightings of frames in which two cameras and four sightings are believed."""
    frames = sightings.frame.max() + 1
    count = np.bincount(sightings.frame[believed], minlength=frames)
    pictures = np.bincount(
        sightings.frame[believed] * MOST_CAMERAS + sightings.camera[believed], minlength=frames * MOST_CAMERAS
    )
    cameras = (pictures.reshape(frames, MOST_CAMERAS) > 0).sum(axis=1)
    return ((count >= 4) & (cameras >= 2))[sightings.frame]


def covariance(fit, sightings, markers, weight, lens_mean):
    """Covariance (15 C, 15 C) of the cameras' numbers for weights 1/px2, the cameras' centre and turn as a whole held."""
    matrix, _, _ = normal_equations(fit, sightings, markers, weight, lens_mean, np.ones(SIZE, dtype=bool), 0.0)
    cameras = len(fit.lens)
    held = np.zeros((SIZE * cameras, 6))
    middle = fit.position - fit.position.mean(axis=0)
    for c in range(cameras):
        at = SIZE * c + 3
        held[at : at + 3, :3] = np.eye(3)
        x, y, z = middle[c]
        held[at : at + 3, 3:] = np.array([[0, z, -y], [-z, 0, x], [y, -x, 0]])
    held, _ = np.linalg.qr(held)
    return np.linalg.inv(matrix + held @ held.T * np.trace(matrix) / len(matrix))


def _report(fit, sightings, believed, sigma, placed, rig, wand, lens_mean, connected, per_camera, notes, names):
    """The SweepCalibration: what every camera and the whole came to, who failed and why, and how far all may be off."""
    markers = np.ascontiguousarray(wand.markers_m)
    r = fit.residuals(sightings, markers)
    numbers = 2 * believed.sum() - SIZE * len(placed) - 6 * len(np.unique(sightings.frame[believed]))
    rms = float(np.sqrt((r[believed] ** 2).sum() / max(numbers, 1)))  # what the fit took for itself counted in
    cov = covariance(fit, sightings, markers, believed / max(rms, 1e-4) ** 2, lens_mean)
    deviation = np.sqrt(np.diag(cov)).reshape(-1, SIZE)
    rows = [_row(rig[c], sightings.camera == i, believed, r, sightings.xy, deviation[i]) for i, c in enumerate(placed)]
    failed = {row["id"]: why for row in rows if (why := _too_little(row))}
    failed |= {names[c]: _why_not_placed(c, connected, per_camera, names) for c in range(len(rig)) if c not in placed}
    solved = [i for i, row in enumerate(rows) if row["id"] not in failed]
    cameras = tuple(
        Camera(
            rows[i]["id"], rig[placed[i]].width, rig[placed[i]].height, fit.lens[i], fit.position[i], fit.rotation[i]
        )
        for i in solved
    )
    centre_sd = 1000 * np.sqrt(np.mean((deviation[solved, 3:6] ** 2).sum(axis=1))) if solved else None
    lengths = _lengths(fit, sightings, believed, wand)
    figures = {
        "reprojection_rms_px": rms, "spread_px": sigma, "sightings": int(believed.sum()),
        "rejected": int((~believed).sum()), "frames": int(len(np.unique(sightings.frame[believed]))),
        "position_limit_mm": centre_sd, "cameras": len(cameras), **lengths,
    }  # fmt: skip
    worst = max(lengths["distances"], key=lambda d: abs(d["mean_mm"] - d["said_mm"]), default=None)
    if worst and abs(worst["mean_mm"] - worst["said_mm"]) > max(1.0, 0.004 * worst["said_mm"]):
        notes.append(
            f"the wand does not match its description: from marker {worst['from']} to {worst['to']} it measures "
            f"{worst['mean_mm']:.1f} mm, said are {worst['said_mm']:.1f} mm"
        )
    mine = np.concatenate([np.arange(SIZE * i, SIZE * i + SIZE) for i in solved] or [np.zeros(0, dtype=int)])
    trail = fit.wand_position + np.einsum("fij,j->fi", fit.wand_rotation, markers.mean(0))
    return SweepCalibration(cameras, failed, figures, rows, cov[np.ix_(mine, mine)], trail, notes)


def _row(camera, mine, believed, r, xy, deviation):
    """One camera's figures; mine, believed (N,): masks of sightings; r, xy (N, 2) pixels; deviation (15,)."""
    good = mine & believed
    cover = _coverage(xy[good], camera)
    return {
        "id": camera.name, "samples": int(good.sum()), "rejected": int((mine & ~believed).sum()),
        "reprojection_rms_px": float(np.sqrt((r[good] ** 2).mean())) if good.any() else None,
        "covered": float((cover > 0).mean()), "coverage": cover.tolist(),
        "residual_pattern_px": _pattern(xy[good], r[good], camera),
        "focal_sd_px": float(deviation[6:8].max()), "centre_sd_px": float(deviation[8:10].max()),
        "position_sd_mm": float(1000 * np.sqrt((deviation[3:6] ** 2).sum())),
    }  # fmt: skip


def _too_little(row):
    """Why a camera that was placed is not solved all the same, or None."""
    if row["samples"] < FEWEST_SIGHTINGS:
        return f"only {row['samples']} sightings of the wand; {FEWEST_SIGHTINGS} are needed"
    if row["covered"] < SMALL_PART:
        return f"the wand was seen in only {row['covered']:.0%} of the picture; {SMALL_PART:.0%} are needed"
    return None


def _why_not_placed(camera, connected, per_camera, names):
    if per_camera[camera] == 0:
        return "it saw nothing that moves"
    together = next((g for g in connected if camera in g), {camera})
    if len(together) > 1:
        others = ", ".join(names[o] for o in sorted(together) if o != camera)
        return f"it shares no view with the larger group of cameras, only with {others}"
    return "it did not read the wand together with any other camera often enough"


def _coverage(xy, camera):
    """Sightings in each cell of the picture, rows from the top, (6, 8)."""
    x, y = np.floor(xy / [camera.width, camera.height] * COVER_CELLS).astype(int).T
    out = np.zeros(COVER_CELLS[::-1], dtype=int)
    np.add.at(out, (np.clip(y, 0, COVER_CELLS[1] - 1), np.clip(x, 0, COVER_CELLS[0] - 1)), 1)
    return out


def _pattern(xy, r, camera):
    """Mean residual in each cell of the picture, (6, 8, 2) pixels, None where nothing was seen."""
    x, y = np.clip(
        np.floor(xy / [camera.width, camera.height] * COVER_CELLS).astype(int), 0, np.array(COVER_CELLS) - 1
    ).T
    total, count = np.zeros((*COVER_CELLS[::-1], 2)), np.zeros(COVER_CELLS[::-1])
    np.add.at(total, (y, x), r)
    np.add.at(count, (y, x), 1)
    return [
        [(total[j, i] / count[j, i]).tolist() if count[j, i] else None for i in range(COVER_CELLS[0])]
        for j in range(COVER_CELLS[1])
    ]


def _lengths(fit, sightings, believed, wand):
    """Distances between the wand's markers, each triangulated on its own, against what its description says."""
    from otrevo.core.optics.triangulate import triangulate_tracks

    count = len(wand.markers_m)
    key = sightings.frame * count + sightings.marker
    frames = sightings.frame.max() + 1
    points, seen_by = triangulate_tracks(
        key[believed],
        sightings.camera[believed],
        sightings.xy[believed],
        frames * count,
        fit.views,
    )
    points[seen_by < 2] = np.nan
    points = points.reshape(frames, count, 3)
    distances, errors, where = [], [], []
    for i in range(count):
        for j in range(i + 1, count):
            found = 1000 * np.linalg.norm(points[:, i] - points[:, j], axis=1)
            said = 1000 * np.linalg.norm(wand.markers_m[i] - wand.markers_m[j])
            if np.isfinite(found).sum() < 10:
                continue
            distances.append({"from": i + 1, "to": j + 1, "said_mm": said, "mean_mm": float(np.nanmedian(found)),
                              "sd_mm": float(1.4826 * np.nanmedian(np.abs(found - np.nanmedian(found))))})  # fmt: skip
            errors.append(found - said)
            where.append((points[:, i] + points[:, j]) / 2)
    if not errors:
        return {"distances": [], "wand_rms_mm": None}
    error, where = np.concatenate(errors), np.concatenate(where)
    good = np.isfinite(error)
    worst = int(np.flatnonzero(good)[np.abs(error[good]).argmax()])
    return {
        "distances": distances, "wand_mean_mm": float(np.mean(error[good])), "wand_sd_mm": float(np.std(error[good])),
        "wand_rms_mm": float(np.sqrt(np.mean(error[good] ** 2))), "wand_worst_mm": float(error[worst]),
        "wand_worst_at_m": where[worst].tolist(),
    }  # fmt: skip
