import cv2
import numpy as np
import pytest

from gentle_veil.core.veils.conceal.fineness import GAIN, LEAST_PX, as_fine

SIZE = 64
INSIDE = np.zeros((SIZE, SIZE), bool)
INSIDE[16:48, 16:48] = True
RING = ~cv2.dilate(INSIDE.astype(np.uint8), np.ones((5, 5), np.uint8)).astype(bool)


def grainy(seed: int, strength: float = 0.01) -> np.ndarray:
    rng = np.random.default_rng(seed)
    return (0.3 + strength * rng.standard_normal((SIZE, SIZE, 3))).astype(np.float32)


def fine(img_lin: np.ndarray, where: np.ndarray) -> float:
    return float((img_lin - cv2.GaussianBlur(img_lin, (0, 0), 1.0))[where].std())


def test_grain_that_sampling_took__is_brought_back() -> None:
    frame = grainy(1)
    between = cv2.warpAffine(grainy(2), np.float32([[1, 0, 0.5], [0, 1, 0.0]]), (SIZE, SIZE), flags=cv2.INTER_LANCZOS4)
    lost = fine(between, INSIDE) / fine(frame, RING)
    assert lost < 0.93
    assert fine(as_fine(between, INSIDE, frame, RING), INSIDE) / fine(frame, RING) == pytest.approx(1, abs=0.05)


def test_each_channel__has_its_own() -> None:
    frame, patch = grainy(1), grainy(2)
    patch[..., 2] = 0.3 + 0.85 * (patch[..., 2] - 0.3)
    before, after = patch, as_fine(patch, INSIDE, frame, RING)
    told = [
        [fine(p[..., c : c + 1], INSIDE) / fine(frame[..., c : c + 1], RING) for c in (0, 2)] for p in (before, after)
    ]
    assert told[0][0] > 0.95 > 0.9 > told[0][1]
    assert told[1] == pytest.approx([1, 1], abs=0.06)


def test_edges_beside_it__are_no_grain() -> None:
    frame = grainy(1)
    frame[:, :6] = 0.05  # what is behind
    frame[::24] *= 0.5  # hairs
    patch = grainy(2)
    after = as_fine(patch, INSIDE, frame, RING)
    assert fine(after, INSIDE) < 1.2 * fine(patch, INSIDE)


@pytest.mark.property
def test_tone__stays_and_too_little_changes_nothing() -> None:
    frame, patch = grainy(1, 0.02), grainy(2)
    after = as_fine(patch, INSIDE, frame, RING)
    assert fine(after, INSIDE) / fine(patch, INSIDE) == pytest.approx(GAIN[1], abs=0.03)
    calm = [cv2.GaussianBlur(p, (0, 0), 4)[INSIDE] for p in (after, patch)]
    np.testing.assert_allclose(*calm, atol=1e-3)
    few = np.zeros_like(INSIDE)
    few.flat[: LEAST_PX - 1] = True
    assert as_fine(patch, few, frame, RING) is as_fine(patch, INSIDE, frame, few) is patch
