import numpy as np
import pytest
from scipy.linalg import cho_factor, cho_solve
from scipy.spatial.distance import cdist

from gentle_veil.core.retouch.mottling import FINER_TIMES, LENGTH_LEAST, mottling

SIZE = 34
YS, XS = np.mgrid[:SIZE, :SIZE]
AWAY = np.hypot(XS - SIZE / 2, YS - SIZE / 2)
RING, HOLE = (AWAY > 6) & (AWAY < 13), AWAY < 5
PLACES = np.stack([XS, YS], axis=-1).reshape(-1, 2)
COVARIANCE = np.exp(-cdist(PLACES, PLACES) / LENGTH_LEAST)


@pytest.fixture(scope="module")
def fields() -> np.ndarray:
    """Random fields (40, h, w) of the correlation that is assumed, .02 strong."""
    rng = np.random.default_rng(4)
    root = np.linalg.cholesky(COVARIANCE + 1e-9 * np.eye(len(PLACES)))
    return 0.02 * (root @ rng.standard_normal((len(PLACES), 40))).T.reshape(40, SIZE, SIZE)


@pytest.mark.truth
def test_mottling__by_cells__is_nearly_as_good_as_the_best_linear_guess_by_pixels(fields) -> None:
    rng = np.random.default_rng(6)
    noisy = fields + 0.02 * np.sqrt(FINER_TIMES) * rng.standard_normal(fields.shape)
    known = RING.ravel()
    factor = cho_factor(COVARIANCE[np.ix_(known, known)] + FINER_TIMES * np.eye(known.sum()))
    errors: dict[str, list[float]] = {"none": [], "cells": [], "pixels": []}
    for field, seen in zip(fields, noisy, strict=True):
        best = COVARIANCE[:, known] @ cho_solve(factor, seen.ravel()[known])
        ours = mottling(seen[..., None].astype(np.float32), RING, half=5.0)[..., 0]
        for name, guess in (("none", 0 * ours), ("cells", ours), ("pixels", best.reshape(SIZE, SIZE))):
            errors[name].append(float(((guess - field)[HOLE] ** 2).mean()))
    means = {name: np.mean(values) for name, values in errors.items()}
    assert means["cells"] < 1.08 * means["pixels"]
    assert means["cells"] < 0.9 * means["none"]


@pytest.mark.property
def test_mottling__nothing_known__is_nothing_and_far_away_it_ends(fields) -> None:
    seen = fields[0][..., None].astype(np.float32)
    assert np.abs(mottling(seen, np.zeros_like(RING), half=5.0)).max() == 0
    corner = (XS < 5) & (YS < 5)
    far = mottling(seen, corner, half=5.0)
    assert np.abs(far[-6:, -6:]).max() < 1e-4 < np.abs(far[:5, :5]).max()
