"""Things that pass in front of places that the mesh was not built on: bare skin, references turned away, plain cloth.

The cases of `fresh_following`, and some of their own, with the stick, hand and coat of `passing` laid over them at two
times each. Told are end-point errors in px of the points that nothing hides just then, over all frames, and on the
farther end of the shot; how many frames are ok and yet more than 2.5 px off; and the status of the frames. Where
exactly a thing passes decides much on bare skin: look at several times together.

    python bench/passing_fresh.py [name[:thing] ...]
"""

import os
import sys

# As in the app (see gentle_veil/__init__.py); it has to be said before numpy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

import record
from fresh_following import CASES, WRONG_PX, Case, off, shot_of
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.settling import settled
from passing import THINGS, passed

MORE = {
    "arm tattoo": Case("deckhand_arm", "plate", 20),
    "cheek flower": Case("pilot", "plate", 40),
    "bare cheek, turned away": Case("pilot", "clean", 70),
    "cheek flower, at the end": Case("pilot", "plate", 80),
    "forehead and temple": Case("pilot", "plate", 40, (549, 167, 70, 35)),
    "plain cloth": Case("harbour_shirt", "plate", 20),
}
ALL = {**CASES, **MORE}
NAMES = ("bare arm", "bare arm, other reference", "bare cheek", *MORE)
AFTER, AFTER_ON_CLOTH, LATER = 35, 60, 6  # frames from the reference to the passing: large regions need more
UNHIDDEN = 0.1


def when_of(case: Case, count: int) -> int:
    """The frame on which a thing is over the region: towards the farther end of the shot."""
    away = AFTER_ON_CLOTH if case.shot == "harbour_shirt" else AFTER
    return case.reference + away if case.reference < 0.6 * count else case.reference - away


def one(case: Case, kind: str, later: int) -> dict[str, object]:
    clear, reference, outline, tracks, counted = shot_of(case)
    when = when_of(case, len(clear)) + later
    frames, cover = passed(clear, kind, tracks[when][counted[when]].mean(axis=0), when)
    mesh, ks = FOLLOWERS["mesh"], range(len(frames))
    track = settled(mesh.estimate(ArrayFrames(frames), Region(reference, outline), mesh.Options(), wanted=ks))
    error = off(np.array([track.carry(tracks[reference], k) for k in ks]), tracks, counted)
    x, y = (np.nan_to_num(tracks[..., i]).round().astype(int).clip(0, frames.shape[2 - i] - 1) for i in (0, 1))
    free = np.where(cover[np.arange(len(frames))[:, None], y, x] < UNHIDDEN, error, np.nan)
    middle = np.array([np.nanmedian(row) if np.isfinite(row).any() else 0.0 for row in error])
    end = error[-1 if when > reference else 0]
    return {
        "free_points_median_px": round(float(np.nanmedian(free)), 3),
        "free_points_p95_px": round(float(np.nanpercentile(free, 95)), 3),
        "end_median_px": round(float(np.nanmedian(end)), 3),
        "end_p95_px": round(float(np.nanpercentile(end, 95)), 3),
        "wrong_and_ok": int(((track.status == "ok") & (middle > WRONG_PX)).sum()),
        "status": record.statuses(track),
    }


def main() -> None:
    told = {}
    for asked in sys.argv[1:] or NAMES:
        name, _, kind = asked.partition(":")
        for thing in (kind,) if kind else THINGS:
            for later in (0, LATER):
                told[f"{name}/{thing}/{later}"] = one(ALL[name], thing, later)
    record.write("passing_fresh", told)


if __name__ == "__main__":
    main()
