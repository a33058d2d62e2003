from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
import OpenEXR
import pytest
import tifffile

from gentle_veil.core.colour.transfer import srgb_decode
from gentle_veil.core.errors import MediaError
from gentle_veil.media.artwork import Artwork, read_rgba

HALF_RED = np.array([200, 40, 10, 128], np.uint8)


def png(path: Path, rgba: np.ndarray) -> Path:
    cv2.imwrite(str(path), rgba[..., [2, 1, 0, 3]])
    return path


@pytest.mark.published
def test_png__alpha_is_straight(tmp_path: Path) -> None:
    """W3C PNG, 6.2."""
    got = read_rgba(png(tmp_path / "a.png", np.tile(HALF_RED, (4, 6, 1))))
    assert got.shape == (4, 6, 4)
    alpha = 128 / 255
    np.testing.assert_allclose(got[0, 0, :3], srgb_decode(np.float32([200, 40, 10]) / 255) * alpha, rtol=1e-4)
    assert got[0, 0, 3] == pytest.approx(alpha)


@pytest.mark.published
@pytest.mark.parametrize("kind", ["assocalpha", "unassalpha"])
def test_tiff__says_itself_what_its_alpha_is(tmp_path: Path, kind: str) -> None:
    """TIFF 6.0, ExtraSamples 1 and 2: the same light, told in two ways."""
    colour = HALF_RED.astype(np.float64)
    if kind == "assocalpha":
        colour[:3] *= colour[3] / 255
    picture = np.tile(np.rint(colour * 257), (4, 4, 1)).astype(np.uint16)
    tifffile.imwrite(tmp_path / "a.tif", picture, photometric="rgb", extrasamples=[kind])
    straight = read_rgba(png(tmp_path / "a.png", np.tile(HALF_RED, (4, 4, 1))))
    np.testing.assert_allclose(read_rgba(tmp_path / "a.tif"), straight, atol=2e-4)


@pytest.mark.published
def test_exr__is_linear_and_premultiplied(tmp_path: Path) -> None:
    pixels = np.tile(np.float32([0.6, 0.1, 0.05, 0.5]), (4, 5, 1))
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with OpenEXR.File(header, {"RGBA": pixels}) as file:
        file.write(str(tmp_path / "a.exr"))
    np.testing.assert_array_equal(read_rgba(tmp_path / "a.exr"), pixels)


def test_told_otherwise__the_users_word_counts(tmp_path: Path) -> None:
    path = png(tmp_path / "a.png", np.tile(HALF_RED, (4, 4, 1)))
    assert read_rgba(path, "premultiplied")[0, 0, 0] > read_rgba(path, "straight")[0, 0, 0]


def test_without_alpha__it_is_opaque_and_grey_is_tripled(tmp_path: Path) -> None:
    cv2.imwrite(str(tmp_path / "g.png"), np.full((3, 3), 128, np.uint8))
    got = read_rgba(tmp_path / "g.png")
    assert (got[..., 3] == 1).all()
    assert np.ptp(got[..., :3]) == 0


def test_sequence__in_order_and_as_fast_as_it_is_told(tmp_path: Path) -> None:
    files = [png(tmp_path / f"a{i}.png", np.full((2, 2, 4), 60 + 60 * i, np.uint8)) for i in range(3)]
    piece = Artwork(files, rate=Fraction(12))
    assert (piece.count, piece.size, piece.seconds) == (3, (2, 2), pytest.approx(1 / 12))
    levels = [float(piece.frame(i)[0, 0, 3]) for i in range(3)]
    assert levels == sorted(levels)


@pytest.mark.published
def test_movie_with_alpha__qtrle(tmp_path: Path) -> None:
    path = tmp_path / "a.mov"
    with av.open(str(path), "w") as container:
        stream = container.add_stream("qtrle", rate=10)
        stream.width, stream.height, stream.pix_fmt = 16, 8, "argb"
        for alpha in (0, 128, 255):
            picture = np.tile(np.uint8([200, 40, 10, alpha]), (8, 16, 1))
            container.mux(stream.encode(av.VideoFrame.from_ndarray(picture, format="rgba").reformat(format="argb")))
        container.mux(stream.encode())
    piece = Artwork([path])
    assert (piece.count, piece.seconds) == (3, pytest.approx(0.1))
    assert [round(float(piece.frame(i)[0, 0, 3]), 2) for i in range(3)] == [0.0, 0.5, 1.0]
    assert not piece.frame(0).any()


@pytest.mark.parametrize("name", ["broken.png", "broken.mov", "broken.exr"])
def test_broken__one_clear_sentence(tmp_path: Path, name: str) -> None:
    (tmp_path / name).write_bytes(b"no picture at all")
    with pytest.raises(MediaError, match=name):
        Artwork([tmp_path / name])
