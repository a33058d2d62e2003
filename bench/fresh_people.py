"""Follow and conceal on people, cloth, light and passing things that nothing here was built on, all defaults.

The shots are rendered with exact truth (`people`): seven faces, four forearms, three cloths. The mesh is asked at the
middle and at four places spread over each surface, all of which face the camera on the reference, and told are
end-point errors in px of the points that are seen; beside it chained dense motion (OpenCV's DIS) of the same points.
Each mark that is worn is taken off by a plate, judged against the twin without it, beside cv2.inpaint.

    python bench/fresh_people.py [shot ...]    fetches a package of bodies the first time; minutes for each shot
"""

import sys

import cv2
import numpy as np

import fresh_following
import record
from conceal_plates import DRAPE, EVERY
from conceal_spots import figures as told_of
from fresh_marks import LOOSE
from gentle_veil.core.composite.in_front import InFront
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.measure.passing import passing
from gentle_veil.core.motion.bridging import bridged
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils import VEILS
from people.scenes import SHOTS
from people.shots import Rendered

RADII = (60, 35, 35, 35, 35)  # px
LEAST_FACING, AROUND, SECTORS = 0.35, (32, 56), 10  # a place has surface on all sides, px
LEAST_COVER, GROWN, LEAST_MARK = 20 / 255, 15, 60  # of a mark; px
AROUND_PX, LEAST_SEEN = 9, 0.05  # px around each of the truth's points; of a mark's cover, that is judged


def circle(centre: np.ndarray, radius: float) -> np.ndarray:
    angle = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    return centre + radius * np.stack([np.cos(angle), np.sin(angle)], axis=1)


def places(shot: Rendered, reference: int) -> list[np.ndarray]:
    """The middle of what faces the camera, and places that lie far from it and from each other."""
    at = shot.tracks[reference][shot.visible[reference] & (shot.facing[reference] > LEAST_FACING)]
    candidates = []
    for place in at[:: max(1, len(at) // 400)]:
        away = at - place
        ring = away[(np.hypot(*away.T) > AROUND[0]) & (np.hypot(*away.T) < AROUND[1])]
        if (
            len(set(((np.arctan2(ring[:, 1], ring[:, 0]) / (2 * np.pi) + 0.5) * SECTORS).astype(int) % SECTORS))
            == SECTORS
        ):
            candidates.append(place)
    free = np.array(candidates)
    chosen = [free[np.linalg.norm(free - np.median(free, axis=0), axis=1).argmin()]]
    while len(chosen) < len(RADII):
        chosen.append(free[np.min([np.linalg.norm(free - c, axis=1) for c in chosen], axis=0).argmax()])
    return chosen


def followed(shot: Rendered, reference: int, outline: np.ndarray) -> dict[str, object]:
    frames, edge = shot.frames[max(shot.frames)], outline.astype(np.float32)
    counted = shot.visible & (shot.facing > fresh_following.FACING)
    inside = [cv2.pointPolygonTest(edge, (float(x), float(y)), False) >= 0 for x, y in shot.tracks[reference]]
    chosen = counted[reference] & inside
    return fresh_following.followed(frames, reference, outline, shot.tracks[:, chosen], counted[:, chosen])


def marks(shot: Rendered, reference: int) -> list[np.ndarray]:
    """The hull of each mark that is worn, a little grown."""
    worn = (shot.cover[reference] > LEAST_COVER).astype(np.uint8)
    count, labels, stats, _ = cv2.connectedComponentsWithStats(cv2.dilate(worn, np.ones((GROWN, GROWN), np.uint8)))
    large = [i for i in range(1, count) if stats[i, cv2.CC_STAT_AREA] > LEAST_MARK]
    return [cv2.convexHull(np.argwhere(labels == i)[:, ::-1].astype(np.float32))[:, 0].astype(float) for i in large]


def concealed(shot: Rendered, reference: int, outline: np.ndarray) -> dict[str, object]:
    marked, clean, frames = shot.frames["marked"], shot.frames["clean"], ArrayFrames(shot.frames["marked"])
    centre, size = outline.mean(axis=0), float(np.ptp(outline, axis=0).max())
    drape = centre + (outline - centre) * max(DRAPE, 1 + 2 * LOOSE / size)
    mesh, veil = FOLLOWERS["mesh"], VEILS["conceal"]
    track = mesh.estimate(frames, Region(reference, drape), mesh.Options(), wanted=range(len(marked)))
    track = bridged(settled(track))
    front = InFront(track, found=passing(frames, track, drape))
    placement, params = Placement(track, outline, drape, front=front), veil.Params(way="plate")
    prepared = veil.prepare(frames, placement, params)
    layer = Layer("conceal", veil, placement, params, prepared=prepared, feather=constant(4.0))
    ks = range(0, len(marked), EVERY)
    ours, holes = [render_frame(frames, (layer,), k).img_raw for k in ks], _of_this(shot, reference, outline)[ks]
    kernel = np.ones((5, 5), np.uint8)
    peers = [
        cv2.inpaint(marked[k], cv2.dilate(hole.astype(np.uint8), kernel), 4, cv2.INPAINT_TELEA)
        for k, hole in zip(ks, holes, strict=True)
    ]
    truth = [clean[k] for k in ks]
    return {
        "plate": told_of(ours, truth, holes),
        "inpaint_telea": told_of(peers, truth, holes),
        "status": record.statuses(track),
    }


def _of_this(shot: Rendered, reference: int, outline: np.ndarray) -> np.ndarray:
    """Where what an outline holds of a mark is seen, (T, H, W): around the truth's points that it holds."""
    edge = outline.astype(np.float32)
    held = np.array(
        [cv2.pointPolygonTest(edge, (float(x), float(y)), True) > -AROUND_PX for x, y in shot.tracks[reference]]
    )
    held &= shot.visible[reference]
    out = np.zeros(shot.cover.shape, bool)
    for k, cover in enumerate(shot.cover):
        near = np.zeros(cover.shape, np.uint8)
        for x, y in np.rint(shot.tracks[k, held & shot.visible[k]]).astype(int):
            cv2.circle(near, (int(x), int(y)), AROUND_PX, 1, -1)
        out[k] = (cover > LEAST_SEEN) & (near > 0)
    return out


def one(name: str) -> dict[str, object]:
    shot = SHOTS[name]()
    reference, seen = shot.reference, shot.rendered()
    out: dict[str, object] = {}
    for radius, place in zip(RADII, places(seen, reference), strict=True):
        out[f"followed at {place[0]:.0f}, {place[1]:.0f}"] = followed(seen, reference, circle(place, radius))
    for outline in marks(seen, reference):
        x, y = outline.mean(axis=0)
        out[f"mark at {x:.0f}, {y:.0f} followed"] = followed(seen, reference, outline)
        out[f"mark at {x:.0f}, {y:.0f} concealed"] = concealed(seen, reference, outline)
    return out


def main() -> None:
    record.write("fresh_people", {name: one(name) for name in sys.argv[1:] or SHOTS})


if __name__ == "__main__":
    main()
