"""Image sequences and stills, written by one library and read by another."""

from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import OpenEXR
import pytest
import tifffile
from PIL import Image

from gentle_veil.core.errors import MediaError
from gentle_veil.media.open_media import open_frames, probe
from gentle_veil.media.sequence import missing_numbers, spans_text
from gentle_veil.media.stills import encode_png, read_still

RNG = np.random.default_rng(1)


def test_probe__png_sequence__keeps_its_own_numbers_and_asks_the_rate(still_folder: Path, spotted_shot) -> None:
    info = probe(still_folder)
    assert (info.first_frame, info.last_frame, info.frame_count) == (1001, 1006, 6)
    assert info.rate is None
    assert probe(still_folder, rate=Fraction(24000, 1001)).rate == Fraction(24000, 1001)
    np.testing.assert_array_equal(open_frames(still_folder, info)[3], spotted_shot.marked[3])
    assert probe(still_folder / "plate.1003.png").first_frame == 1001


def test_probe__gaps__are_listed_and_refused_or_held(still_folder: Path, spotted_shot) -> None:
    for number in (1003, 1004):
        (still_folder / f"plate.{number}.png").unlink()
    with pytest.raises(MediaError, match="1003-1004 missing") as caught:
        probe(still_folder)
    assert caught.value.detail["missing"] == [1003, 1004]
    info = probe(still_folder, gaps="hold")
    assert info.held == (1003, 1004)
    assert info.frame_count == 6
    np.testing.assert_array_equal(open_frames(still_folder, info)[3], spotted_shot.marked[1])


def test_probe__mixed_sizes__names_two_files(still_folder: Path) -> None:
    cv2.imwrite(str(still_folder / "plate.1004.png"), np.zeros((100, 100, 3), np.uint8))
    with pytest.raises(MediaError, match=r"1001.png is 320x240 and plate.1004.png is 100x100"):
        probe(still_folder)


@pytest.mark.parametrize("kind", ["none", "two", "damaged", "absurd"])
def test_probe__bad_folders__one_sentence(kind: str, still_folder: Path) -> None:
    if kind == "none":
        for path in still_folder.iterdir():
            path.unlink()
    elif kind == "two":
        cv2.imwrite(str(still_folder / "other.0001.png"), np.zeros((240, 320, 3), np.uint8))
    elif kind == "damaged":
        (still_folder / "plate.1001.png").write_bytes(b"no picture")
    else:
        cv2.imwrite(str(still_folder / "plate.1007.png"), np.zeros((4, 4, 3), np.uint8))
        for path in still_folder.glob("plate.100[1-6].png"):
            path.unlink()
    with pytest.raises(MediaError) as caught:
        probe(still_folder)
    assert caught.value.message.endswith(".")


def test_spans_text__and_missing_numbers() -> None:
    assert missing_numbers([3, 4, 7, 9]) == (5, 6, 8)
    assert spans_text((5, 6, 8)) == "5-6, 8"


@pytest.mark.published
@pytest.mark.parametrize("depth", [np.uint8, np.uint16])
def test_encode_png__read_by_other_readers__same_numbers(depth: type, tmp_path: Path) -> None:
    """Other readers: Pillow for 8 bit; OpenCV for 16 bit, which Pillow cannot read in colour."""
    picture = RNG.integers(0, np.iinfo(depth).max, (20, 30, 3), dtype=depth)
    path = tmp_path / "p.png"
    path.write_bytes(encode_png(picture))
    if depth is np.uint8:
        np.testing.assert_array_equal(np.asarray(Image.open(path)), picture)
    np.testing.assert_array_equal(cv2.imread(str(path), cv2.IMREAD_UNCHANGED)[..., ::-1], picture)
    np.testing.assert_array_equal(read_still(path), picture)


@pytest.mark.published
def test_read_still__exr_tiff_jpeg_by_other_writers(tmp_path: Path) -> None:
    """Other writers: OpenEXR's own bindings, tifffile, Pillow."""
    light = RNG.uniform(0, 5, (16, 24, 3)).astype(np.float32)
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION}, {"RGB": light}).write(str(tmp_path / "a.1.exr"))
    np.testing.assert_array_equal(read_still(tmp_path / "a.1.exr"), light)
    info = probe(tmp_path)
    assert (info.dtype, info.transfer) == ("float32", "linear")
    deep = RNG.integers(0, 65535, (16, 24, 3), dtype=np.uint16)
    tifffile.imwrite(tmp_path / "b.tif", deep, photometric="rgb")
    np.testing.assert_array_equal(read_still(tmp_path / "b.tif"), deep)
    smooth = np.tile(np.linspace(0, 255, 24).astype(np.uint8)[None, :, None], (16, 1, 3))
    Image.fromarray(smooth).save(tmp_path / "c.jpg", quality=95)
    assert np.abs(read_still(tmp_path / "c.jpg").astype(int) - smooth).max() < 6


def test_read_still__grey_is_tripled_and_alpha_dropped(tmp_path: Path) -> None:
    Image.fromarray(np.full((8, 8), 77, np.uint8)).save(tmp_path / "g.png")
    assert (read_still(tmp_path / "g.png") == 77).all()
    Image.fromarray(np.full((8, 8, 4), 9, np.uint8)).save(tmp_path / "a.png")
    assert read_still(tmp_path / "a.png").shape == (8, 8, 3)


def test_read_still__cut_off__one_sentence(tmp_path: Path) -> None:
    content = encode_png(RNG.integers(0, 255, (64, 64, 3), dtype=np.uint8))
    (tmp_path / "cut.tif").write_bytes(content[:100])
    with pytest.raises(MediaError, match=r"cut\.tif"):
        read_still(tmp_path / "cut.tif")
