"""How fast result frames are made, on two cores, at 960x540 and at 1080p: one veil of each kind on demo surfaces.

The larger size is the demo footage enlarged twice, with the true motion enlarged as well; quality is judged elsewhere
(`conceal_spots`, `conceal_plates`, `apply`, `obscure`), this measures time alone. Frames are made two at a time, as
when handing over. Peer in the same run: cv2.inpaint on the same mark, two at a time too.
"""

import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import cv2
import numpy as np

import record
from apply import placed
from conceal_plates import DRAPE, FOOTAGE, hull_of, true_track
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import polygon_mask
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils import VEILS
from gentle_veil.media.artwork import Artwork
from gentle_veil.media.open_media import open_frames, probe

COUNT = 30


def enlarged(track: SurfaceTrack, times: float) -> SurfaceTrack:
    return SurfaceTrack(
        track.vertices_ref * times,
        track.triangles,
        (track.positions * times).astype(np.float32),
        track.confidence,
        track.status,
        track.frames,
        track.reference_frames,
    )


def per_second(make: Callable[[int], object]) -> float:
    for k in range(2):
        make(k)
    cv2.setNumThreads(1)  # as when handing over
    with ThreadPoolExecutor(2) as pool:
        start = time.perf_counter()
        list(pool.map(make, range(2, COUNT)))
    return round((COUNT - 2) / (time.perf_counter() - start), 1)


def clip(shot: str, times: int) -> ArrayFrames:
    media = open_frames(FOOTAGE / shot / "plate.mp4", probe(FOOTAGE / shot / "plate.mp4"))
    size = (960 * times, 540 * times)
    return ArrayFrames(np.stack([cv2.resize(media[k], size, interpolation=cv2.INTER_CUBIC) for k in range(COUNT)]))


def one_size(times: int) -> dict[str, float]:
    arm, shirt = clip("deckhand_arm", times), clip("harbour_shirt", times)
    marks = np.load(FOOTAGE / "deckhand_arm" / "marks.npz")["G"]
    outline = hull_of(marks[20])
    drape = outline.mean(axis=0) + (outline - outline.mean(axis=0)) * DRAPE
    tracks = np.load(FOOTAGE / "deckhand_arm" / "truth.npz")["tracks"][:COUNT]
    track = enlarged(true_track(tracks, 20, drape), times)
    around = np.linspace(0, 2 * np.pi, 25)[:-1]
    spot = outline.mean(axis=0) + 12 * np.stack([np.cos(around), np.sin(around)], axis=1)
    truth = np.load(FOOTAGE / "harbour_shirt" / "truth.npz")
    art = Artwork([FOOTAGE / "harbour_shirt" / "emblem.png"])
    on = ((truth["art_xy"] > -0.02) & (truth["art_xy"] < 1.02)).all(axis=1)
    wide = hull = truth["tracks"][20][on].astype(np.float32)
    hull = cv2.convexHull(wide)[:, 0].astype(float)
    cloth = enlarged(true_track(truth["tracks"][:COUNT], 20, hull), times)
    put = placed(truth["art_xy"][on] * np.array(art.size) - 0.5, wide.astype(float) * times, art.size, hull * times)
    cases = {
        "conceal_spot_of_24_px": (arm, "conceal", Placement(track, spot * times, drape * times), {}),
        "conceal_tattoo_by_plate": (arm, "conceal", Placement(track, outline * times, drape * times), {"way": "plate"}),
        "obscure_a_tattoo": (arm, "obscure", Placement(track, outline * times, drape * times), {}),
        "apply_an_emblem": (
            shirt,
            "apply",
            Placement(cloth, hull * times, hull * times, pictures={"emblem": art}),
            put,
        ),
    }
    told: dict[str, float] = {}
    for name, (frames, kind, placement, given) in cases.items():
        veil = VEILS[kind]
        params = veil.Params(**given) if isinstance(given, dict) else given
        prepared = veil.prepare(frames, placement, params)
        layers = (Layer(name, veil, placement, params, prepared=prepared, feather=constant(4.0 * times)),)
        told[name] = per_second(lambda k, f=frames, la=layers: render_frame(f, la, k))
    mask = polygon_mask(outline * times, 960 * times, 540 * times).astype(np.uint8)
    told["cv2_inpaint_of_the_tattoo"] = per_second(lambda k: cv2.inpaint(arm[k], mask, 4, cv2.INPAINT_TELEA))
    return told


def main() -> None:
    record.write("result_speed", {"960x540_per_second": one_size(1), "1920x1080_per_second": one_size(2)})


if __name__ == "__main__":
    main()
