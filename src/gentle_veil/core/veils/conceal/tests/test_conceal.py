"""Conceal against the clean twin: colour, flicker and grain inside the mark; donor and hold by themselves."""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.ciede2000 import delta_e_2000
from gentle_veil.core.colour.cielab import lab_from_linear
from gentle_veil.core.colour.transfer import bt709_decode
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import Keyed, Place, constant
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.geometry.outline import outline_polygon
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.synth.planar import PlanarSequence, planar_track
from gentle_veil.core.synth.spots import spotted
from gentle_veil.core.veils.conceal import VEIL
from gentle_veil.core.veils.conceal.donor import DonorSearch, find_donor
from gentle_veil.core.veils.conceal.hold import Held, hold_steps
from gentle_veil.core.veils.conceal.params import ConcealParams

CENTRE, RADIUS = (150.0, 118.0), 6.0


def circle(centre, radius: float) -> np.ndarray:
    angles = np.arange(12) * 2 * np.pi / 12
    return outline_polygon(np.array(centre) + radius * np.stack([np.cos(angles), np.sin(angles)], axis=1))


def placed(maps: np.ndarray, slip: tuple[float, float] = (0.0, 0.0), marks=()) -> Placement:
    """The exact track, off by ``slip`` px per frame."""
    wrong = np.stack(
        [np.array([[1, 0, slip[0] * k], [0, 1, slip[1] * k], [0, 0, 1.0]]) @ h for k, h in enumerate(maps)]
    )
    track = planar_track((70, 40, 230, 200), 12, wrong)
    return Placement(track, circle(CENTRE, RADIUS + 3), circle(CENTRE, 70), tuple(marks))


def rendered(shot, placement: Placement, params: ConcealParams | None = None) -> list[np.ndarray]:
    frames = ArrayFrames(shot.marked)
    params = params or ConcealParams()
    prepared = VEIL.prepare(frames, placement, params)
    layer = Layer("spot", VEIL, placement, params, prepared=prepared, feather=constant(3.0))
    return [render_frame(frames, (layer,), k).img_raw for k in range(len(shot.marked))]


def difference(a: np.ndarray, b: np.ndarray, mask: np.ndarray) -> np.ndarray:
    def lab(raw: np.ndarray) -> np.ndarray:
        return lab_from_linear(bt709_decode(cv2.GaussianBlur(raw.astype(np.float32) / 255, (0, 0), 3)))

    return delta_e_2000(lab(a), lab(b))[mask]


@pytest.mark.truth
def test_conceal__exact_track__is_the_clean_twin_to_less_than_a_visible_step(spotted_shot) -> None:
    results = rendered(spotted_shot, placed(spotted_shot.frame_from_ref))
    per_frame = [
        difference(r, c, m > 0.05) for r, c, m in zip(results, spotted_shot.clean, spotted_shot.cover, strict=True)
    ]
    before = [
        difference(r, c, m > 0.05)
        for r, c, m in zip(spotted_shot.marked, spotted_shot.clean, spotted_shot.cover, strict=True)
    ]
    found = np.concatenate(per_frame)
    assert np.median(found) < 0.8
    assert np.percentile(found, 95) < 2.0
    assert np.median(np.concatenate(before)) > 8 * np.median(found)


@pytest.mark.truth
def test_conceal__light_that_swings__no_flicker_and_the_same_grain(spotted_shot) -> None:
    results = rendered(spotted_shot, placed(spotted_shot.frame_from_ref))
    means, grain = [], []
    for result, clean, cover in zip(results, spotted_shot.clean, spotted_shot.cover, strict=True):
        inside = cover > 0.5
        means.append(100 * (result.astype(float) - clean)[inside].mean() / 255)
        fine = [p - cv2.GaussianBlur(p, (0, 0), 1.5) for p in (result.astype(np.float32), clean.astype(np.float32))]
        grain.append([f[inside].std() for f in fine])
    assert np.std(means) < 0.3
    ratio = np.mean(np.array(grain), axis=0)
    assert 0.85 < ratio[0] / ratio[1] < 1.15


@pytest.mark.truth
def test_conceal__slipping_drape__holding_on_keeps_the_mark_covered(spotted_shot) -> None:
    placement = placed(spotted_shot.frame_from_ref, slip=(0.35, -0.2))
    k = 15
    held = rendered(spotted_shot, placement)[k]
    loose = rendered(spotted_shot, placement, ConcealParams(hold=False))[k]
    mask = spotted_shot.cover[k] > 0.05
    clean = spotted_shot.clean[k]
    assert difference(held, clean, mask).max() < 0.5 * difference(loose, clean, mask).max()


@pytest.mark.truth
def test_hold_steps__finds_the_slip_to_a_fifth_of_a_pixel(spotted_shot) -> None:
    placement = placed(spotted_shot.frame_from_ref, slip=(0.3, 0.1))
    steps = hold_steps(ArrayFrames(spotted_shot.marked), placement).steps
    for k in (6, 10, 13):
        np.testing.assert_allclose(steps[str(k)], np.array([-0.3, -0.1]) * k, atol=0.35)
    assert steps["0"] == [0.0, 0.0]


def test_hold_steps__no_mark_that_stands_out__stays_with_the_drape(spotted_shot) -> None:
    still = np.full((4, 240, 320, 3), 120, np.uint8)
    placement = placed(np.stack([np.eye(3)] * 4))
    assert hold_steps(ArrayFrames(still), placement) == Held()


@pytest.mark.truth
def test_hold_steps__a_lost_drape__is_found_by_its_mark_where_that_is_to_be_seen(spotted_shot) -> None:
    placement = placed(spotted_shot.frame_from_ref, slip=(0.8, 0.4))
    track, lost = placement.track, np.isin(placement.track.frames, (9, 10, 11, 12))
    confidence = np.where(lost[:, None], np.float32(0.1), track.confidence)
    status = np.where(lost, "lost", track.status)
    placement = replace(placement, track=replace(track, confidence=confidence, status=status))
    shown = spotted_shot.marked.copy()
    shown[11, :, :] = spotted_shot.clean[11]  # as if something hid it
    held = hold_steps(ArrayFrames(shown), placement)
    assert held.alone == [9, 10, 12]
    for k in held.alone:
        there = apply_homography(spotted_shot.frame_from_ref[k], np.array([CENTRE]))
        truth = (there - track.carry(np.array([CENTRE]), track.row(k)))[0]
        np.testing.assert_allclose(held.steps[str(k)], truth, atol=0.8)  # of 7 to 11 px
    assert "11" not in held.steps


@pytest.mark.truth
def test_hold_steps__a_surface_squeezed_to_a_line__is_shaped_as_on_a_frame_beside_it(spotted_shot) -> None:
    placement, k = placed(spotted_shot.frame_from_ref), 9
    track, row = placement.track, placement.track.row(9)
    positions, confidence = track.positions.copy(), track.confidence.copy()
    middle = positions[row, :, 0].mean()
    positions[row, :, 0] = middle + 0.02 * (positions[row, :, 0] - middle) + 5.0
    confidence[row] = 0.1
    squeezed = replace(placement, track=replace(track, positions=positions, confidence=confidence, homographies=None))
    held = hold_steps(ArrayFrames(spotted_shot.marked), squeezed)
    assert list(held.shaped_as) == [str(k)]
    assert abs(held.shaped_as[str(k)] - k) == 1
    true, found = (p.track.carry(p.polygon_ref, row) for p in (placement, held.placed(squeezed)))
    np.testing.assert_allclose(found, true, atol=1.2)


@pytest.mark.truth
def test_find_donor__keeps_off_other_marks_even_unknown_ones(spotted_shot) -> None:
    sequence = PlanarSequence(spotted_shot.marked, spotted_shot.frame_from_ref, 0)
    crowded, _ = spotted(sequence, (182.0, 118.0), 6.0)
    crowded, _ = spotted(PlanarSequence(crowded, spotted_shot.frame_from_ref, 0), (118.0, 118.0), 6.0)
    found = find_donor(ArrayFrames(crowded), placed(spotted_shot.frame_from_ref), DonorSearch())
    donor = np.array(CENTRE) + found["donor"]
    for other in ((182.0, 118.0), (118.0, 118.0)):
        assert np.linalg.norm(donor - other) > RADIUS + 6
    assert "px away" in found["why"]


def test_find_donor__known_marks__are_never_taken(spotted_shot) -> None:
    blocked = circle((176.0, 118.0), 14)
    placement = placed(spotted_shot.frame_from_ref, marks=[blocked])
    found = find_donor(ArrayFrames(spotted_shot.marked), placement, DonorSearch())
    assert np.linalg.norm(np.array(CENTRE) + found["donor"] - (176.0, 118.0)) > 20


def test_find_donor__no_skin_in_the_picture__says_what_to_do(spotted_shot) -> None:
    huge = Placement(placed(spotted_shot.frame_from_ref).track, circle((160, 120), 118), circle((160, 120), 119))
    with pytest.raises(ParameterError, match="by hand"):
        find_donor(ArrayFrames(spotted_shot.marked), huge, DonorSearch())


def test_conceal__donor_placed_by_hand__is_used_as_it_is(spotted_shot) -> None:
    placement = placed(spotted_shot.frame_from_ref)
    prepared = VEIL.prepare(ArrayFrames(spotted_shot.marked), placement, ConcealParams(donor=(25.0, 4.0), hold=False))
    assert prepared["donor"] == [25.0, 4.0]
    assert prepared["why"] == "Placed by hand."
    # With light and tone off and a whole-pixel step on the reference, the patch is the donor's own pixels.
    raw = ConcealParams(donor=(25.0, 4.0), hold=False, light=0.0)
    layer = Layer("spot", VEIL, placement, raw, prepared=prepared, feather=constant(0.0))
    out = render_frame(ArrayFrames(spotted_shot.marked), (layer,), 0).img_raw
    np.testing.assert_array_equal(out[118, 150], spotted_shot.marked[0][122, 175])


def place(x: float, y: float, **more: float) -> Place:
    return Place(constant(x), constant(y), **{n: constant(v) for n, v in more.items()})


@pytest.mark.property
def test_several_donors__each_covers_its_own_side(spotted_shot) -> None:
    placement = placed(spotted_shot.frame_from_ref)
    both = (place(30.0, 0.0), place(-30.0, 0.0))

    def alone(*donors: Place) -> np.ndarray:
        return rendered(spotted_shot, placement, ConcealParams(donors=donors, hold=False, light=0.0))[0]

    right, left, shared = alone(both[0]), alone(both[1]), alone(*both)
    centre = np.rint(placement.polygon_ref.mean(axis=0)).astype(int)
    radius = int(np.ptp(placement.polygon_ref[:, 0]) / 2)
    rows = np.s_[centre[1] - 1 : centre[1] + 2]
    for side, own, other in ((radius - 1, right, left), (1 - radius, left, right)):
        at = (rows, np.s_[centre[0] + side - 1 : centre[0] + side + 2])
        near, far = (np.abs(shared[at].astype(int) - p[at]).mean() for p in (own, other))
        assert near < far


@pytest.mark.truth
def test_several_donors__are_as_good_as_one_and_keep_the_grain(spotted_shot) -> None:
    placement = placed(spotted_shot.frame_from_ref)
    found = VEIL.prepare(ArrayFrames(spotted_shot.marked), placement, ConcealParams())
    steps = [found["donor"], found["others"][0]]
    results = rendered(spotted_shot, placement, ConcealParams(donors=tuple(place(*s) for s in steps)))
    off = [difference(r, c, m > 0.05) for r, c, m in zip(results, spotted_shot.clean, spotted_shot.cover, strict=True)]
    assert np.median(np.concatenate(off)) < 0.9


@pytest.mark.property
def test_a_keyed_donor__moves(spotted_shot) -> None:
    placement = placed(spotted_shot.frame_from_ref)
    last = len(spotted_shot.marked) - 1
    moving = Place(Keyed(((0, 25.0), (last, -25.0))), constant(4.0))
    raw = {"hold": False, "light": 0.0}
    results = rendered(spotted_shot, placement, ConcealParams(donors=(moving,), **raw))
    first = rendered(spotted_shot, placement, ConcealParams(donor=(25.0, 4.0), **raw))
    other = rendered(spotted_shot, placement, ConcealParams(donor=(-25.0, 4.0), **raw))
    np.testing.assert_array_equal(results[0], first[0])
    np.testing.assert_array_equal(results[last], other[last])
