"""Defocus is read from bands of texture, wherever the surface lies."""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.followers.mesh.focusing import RECENT, Focusing, defocused
from gentle_veil.core.followers.mesh.mesh import MeshRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.texture import COARSE, WOVEN
from gentle_veil.core.geometry.spline_field import SplineGrid
from gentle_veil.core.motion.mesh_registration import BROAD, NEAR, MeshRegistration
from gentle_veil.core.motion.pyramid import grey_pyramid
from gentle_veil.core.synth.textures import strong_weave

NONE = 0.0


@pytest.fixture(scope="module")
def cloth() -> np.ndarray:
    woven = strong_weave(np.random.default_rng(4), 220, 260)
    return woven if woven.ndim == 2 else np.ascontiguousarray(woven[..., 1])


def pyramid(picture: np.ndarray):  # type: ignore[no-untyped-def]
    raw = np.repeat(np.clip(np.rint(255 * picture), 0, 255).astype(np.uint8)[..., None], 3, axis=2)
    return grey_pyramid(raw, 255.0, 2, band=COARSE, near=WOVEN)


def registered(picture: np.ndarray) -> MeshRegistration:
    mask = np.zeros(picture.shape, bool)
    mask[30:190, 30:220] = True
    return MeshRegistration(pyramid(picture), mask, SplineGrid((26.0, 26.0, 224.0, 194.0), 20.0))


@pytest.mark.truth
@pytest.mark.parametrize("blur", [NONE, 1.0, 1.6])
def test_blur__is_read_even_where_nothing_lies_over_its_like(cloth, blur: float) -> None:
    r = registered(cloth)
    focusing = Focusing(r)
    soft = cv2.GaussianBlur(cloth, (0, 0), blur) if blur else cloth
    slipped = np.full((2, *r.shape), 5.0, np.float32)
    seen, inside = r.look(pyramid(soft), NEAR, slipped)
    for _ in range(RECENT):
        found = focusing.blur(seen, inside)
    assert found == pytest.approx(blur, abs=0.35)


@pytest.mark.property
def test_defocused__is_the_same_in_focus_and_like_the_frame_out_of_it(cloth) -> None:
    r = registered(cloth)
    assert defocused(r.home, 0.3) is r.home
    seen, _ = r.look(pyramid(cv2.GaussianBlur(cloth, (0, 0), 1.6)), 0, np.zeros((2, *r.shape), np.float32))
    as_it_was, as_it_is = r.home.templates[0], defocused(r.home, 1.6).templates[0]
    assert np.abs(as_it_is - seen)[8:-8, 8:-8].mean() < 0.6 * np.abs(as_it_was - seen)[8:-8, 8:-8].mean()


@pytest.mark.property
def test_nothing_seen__keeps_what_was_known(cloth) -> None:
    r = registered(cloth)
    zero = np.zeros(r.shape, np.float32)
    assert Focusing(r).blur(zero, zero) == 0


@pytest.mark.property
@pytest.mark.parametrize("tells_less", [False, True])
def test_in_focus_again__the_finer_bands_are_left_where_they_suddenly_tell_less(  # type: ignore[no-untyped-def]
    cloth, monkeypatch, tells_less: bool
) -> None:
    """As on a reference that was smeared: the sharper frames have more in them than it explains."""
    frames = np.repeat(np.clip(np.rint(255 * cloth), 0, 255).astype(np.uint8)[None, ..., None], 3, axis=3)
    mixed = MeshRun._mixed

    def told(self: MeshRun, *given, **more):  # type: ignore[no-untyped-def]
        mixer, best, mixture, familiar = mixed(self, *given, **more)
        cost = 0.5 if tells_less and self.registration.near == NEAR else 0.1
        return mixer, best, replace(mixture, cost=cost), familiar

    monkeypatch.setattr(MeshRun, "_mixed", told)
    box = np.array([[40.0, 40], [200, 40], [200, 180], [40, 180]])
    run = MeshRun(ArrayFrames(frames[[0, 0, 0]]), Region(0, box), MeshOptions())
    state, history = run.begin(None, [1, 2])
    for k, blur in ((1, 2.5), (2, 0.0)):
        monkeypatch.setattr(Focusing, "blur", lambda *_, blur=blur: blur)
        run.focusing.blurs = [blur]
        _, state = run.follow(k, state, history)
    assert run.registration.near == (BROAD if tells_less else NEAR)
