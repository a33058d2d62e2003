"""A part of a face that is not to be recognised any more goes where the whole face goes."""

import cv2
import numpy as np
import pytest
from skimage import data

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import LOST, SEEN, WEAK
from gentle_veil.core.faces.under import face_under
from gentle_veil.core.followers.mesh.led import LedRun
from gentle_veil.core.followers.mesh.mesh import MeshRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.geometry.outline import polygon_mask
from gentle_veil.core.motion.sampling import sample_lanczos

COUNT, GONE = 30, 4


@pytest.fixture(scope="module")
def portrait() -> np.ndarray:
    return cv2.resize(data.astronaut()[:300, 80:380], None, fx=1.5, fy=1.5, interpolation=cv2.INTER_CUBIC)


@pytest.fixture(scope="module")
def cheek(portrait: np.ndarray) -> np.ndarray:
    home = face_under(portrait, np.array([[150.0, 90], [270, 90], [270, 240], [150, 240]]))
    assert home is not None
    return home.part("cheek left")


def moving(portrait: np.ndarray, cheek: np.ndarray) -> tuple[ArrayFrames, list[np.ndarray]]:
    """The portrait under a slow turn and a cheek of nothing but noise from frame GONE on: frames, frame_from_ref."""
    rng = np.random.default_rng(2)
    size = portrait.shape[0]
    covered = cv2.dilate(polygon_mask(cheek, size, size).astype(np.uint8), np.ones((7, 7), np.uint8)) > 0
    ys, xs = np.mgrid[:size, :size].astype(np.float64)
    frames, maps = [], []
    for k in range(COUNT):
        m = np.vstack([cv2.getRotationMatrix2D((size / 2, size / 2), 0.5 * k, 1), [0, 0, 1]])
        m[:2, 2] += (1.5 * k, 0.5 * k)
        picture = portrait.astype(np.float32)
        if k >= GONE:
            picture[covered] = cv2.GaussianBlur(rng.uniform(0, 255, picture.shape).astype(np.float32), (0, 0), 1)[
                covered
            ]
        back = np.stack([xs, ys, np.ones_like(xs)], axis=-1) @ np.linalg.inv(m).T
        seen = sample_lanczos(picture, back[..., :2]) + rng.normal(0, 2, picture.shape)
        frames.append(np.clip(np.rint(seen), 0, 255).astype(np.uint8))
        maps.append(m)
    return ArrayFrames(np.array(frames)), maps


@pytest.mark.truth
def test_a_part_that_is_lost__goes_as_the_face_does_and_says_how_unsure_it_is(portrait, cheek) -> None:  # type: ignore[no-untyped-def]
    frames, maps = moving(portrait, cheek)
    told = {}
    for kind in (MeshRun, LedRun):
        run = kind(frames, Region(0, cheek), MeshOptions())
        state, history = run.begin(None, list(range(1, COUNT)))
        for k in range(1, COUNT):
            row, state = run.follow(k, state, history)
        home = cv2.perspectiveTransform(run.mesh.at[None, run.mesh.inside], maps[-1])[0]
        told[kind] = row.status, np.median(np.linalg.norm(row.positions[run.mesh.inside] - home, axis=1)), row.error_px
    assert told[MeshRun][0] not in SEEN
    status, off, said = told[LedRun]
    assert status == "weak"
    assert off < said.min() < 10


@pytest.mark.truth
def test_what_did_not_go_with_the_face_while_both_were_seen__is_not_led_by_it(portrait, cheek) -> None:  # type: ignore[no-untyped-def]
    """A neck lies beside a face, and stays when the head turns."""
    frames, _ = moving(portrait, cheek)
    whole, same = (LedRun(frames, Region(0, cheek), MeshOptions()).whole for _ in range(2))
    assert whole is not None
    assert same is not None
    there, later = (same.lead(k, None) for k in (3, 6))
    assert there is not None
    assert later is not None
    assert whole.lead(4, (3, there + 0.5)) is not None
    whole.restart(1)
    assert whole.lead(4, (3, there + 3 * whole.room.max())) is None
    assert whole.lead(5, None) is None  # until it is known to go with it again
    assert whole.lead(7, (6, later)) is not None


@pytest.mark.property
def test_where_nothing_of_the_face_is_seen_around_it__it_may_be_far_off(portrait, cheek) -> None:  # type: ignore[no-untyped-def]
    frames, _ = moving(portrait, cheek)
    run = LedRun(frames, Region(0, cheek), MeshOptions())
    whole = run.whole
    assert whole is not None
    run.led = whole.lead(1, None)
    assert run.led is not None
    assert whole.seen_beside() > 0.5
    state, _ = run.begin(None, [1])
    far = run.led + 10 * np.float32(whole.room.max())
    near = np.abs(run._near(far) - run.led).max()
    assert run.carried(state, far, LOST)[0].status == WEAK
    whole.state.visible[whole.beside > 0] = 0
    assert np.abs(run._near(far) - run.led).max() > 2 * near
    assert run.carried(state, far, LOST)[0].status == LOST


@pytest.mark.property
def test_a_part_that_is_seen__needs_no_face(portrait: np.ndarray, cheek: np.ndarray, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    frames, _ = moving(portrait, cheek)
    monkeypatch.setattr(LedRun, "whole", property(lambda run: pytest.fail("the face was looked for")))
    run = LedRun(frames, Region(0, cheek), MeshOptions())
    state, history = run.begin(None, list(range(1, GONE)))
    for k in range(1, GONE):
        row, state = run.follow(k, state, history)
    assert row.status in SEEN
