"""Movies: every frame reached exactly, faults refused in one sentence, round trips through another reader."""

from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
import pytest
from conftest import write_movie

from gentle_veil.core.errors import MediaError, NotFoundError
from gentle_veil.media.open_media import open_frames, probe
from gentle_veil.media.write import movie_writer

COUNT = 40


@pytest.fixture(scope="module")
def moving() -> np.ndarray:
    rng = np.random.default_rng(1)
    base = cv2.GaussianBlur(rng.uniform(0, 255, (96, 200, 3)), (0, 0), 2)
    base = ((base - base.min()) / np.ptp(base) * 255).astype(np.uint8)
    return np.stack([base[:, 2 * k : 2 * k + 96] for k in range(COUNT)])


@pytest.fixture(scope="module")
def long_gop(moving: np.ndarray, tmp_path_factory: pytest.TempPathFactory) -> Path:
    options = {"x264-params": "keyint=18:min-keyint=18:open-gop=1:bframes=3:b-adapt=0"}
    return write_movie(tmp_path_factory.mktemp("m") / "long.mp4", moving, gop=18, b_frames=3, options=options)


def sequentially(path: Path) -> list[np.ndarray]:
    with av.open(str(path)) as container:
        return [frame.to_ndarray(format="rgb24") for frame in container.decode(video=0)]


def test_seek__long_gop_with_b_frames__every_frame_equals_decoding_in_order(long_gop: Path) -> None:
    truth = sequentially(long_gop)
    assert len(truth) == COUNT
    frames = open_frames(long_gop, probe(long_gop))
    order = np.random.default_rng(2).permutation(COUNT)
    for k in [*order, *range(COUNT), *reversed(range(COUNT))]:
        np.testing.assert_array_equal(frames[int(k)], truth[k], err_msg=f"frame {k}")


def test_seek__small_cache__still_exact(long_gop: Path) -> None:
    truth = sequentially(long_gop)
    frames = open_frames(long_gop, probe(long_gop))
    frames._room = 4
    for k in (39, 0, 17, 18, 19, 5, 38, 20, 1):
        np.testing.assert_array_equal(frames[k], truth[k])


def test_frames__outside_the_clip__are_refused(long_gop: Path) -> None:
    frames = open_frames(long_gop, probe(long_gop))
    with pytest.raises(NotFoundError, match="0 to 39"):
        frames[40]
    with pytest.raises(NotFoundError):
        frames[-1]


@pytest.mark.parametrize("rate", [Fraction(24000, 1001), Fraction(25), Fraction(30000, 1001), Fraction(60)])
def test_probe__the_rate_is_exact(rate: Fraction, moving: np.ndarray, tmp_path: Path) -> None:
    info = probe(write_movie(tmp_path / "rate.mp4", moving[:12], rate=rate))
    assert info.rate == rate
    assert not info.variable
    assert (info.first_frame, info.frame_count, info.width, info.height) == (0, 12, 96, 96)
    assert info.colour["matrix"] == "BT.709"
    assert info.seconds_at(6) == 6 / rate


def test_probe__matroska_clock_of_a_millisecond__is_not_called_variable(moving: np.ndarray, tmp_path: Path) -> None:
    info = probe(write_movie(tmp_path / "clip.mkv", moving[:20], rate=Fraction(30000, 1001)))
    assert not info.variable
    assert info.rate == Fraction(30000, 1001)


def test_probe__variable_rate__warns_and_keeps_the_true_times(moving: np.ndarray, tmp_path: Path) -> None:
    pts = [0, 40, 80, 200, 240, 400, 440, 480, 700, 740]
    path = write_movie(tmp_path / "vfr.mp4", moving[:10], pts=pts, time_base=Fraction(1, 1000))
    info = probe(path)
    assert info.variable
    assert any("varies" in w for w in info.warnings)
    assert [round(float(info.seconds_at(k)) * 1000) for k in range(10)] == pts
    frames = open_frames(path, info)
    np.testing.assert_array_equal(frames[8], sequentially(path)[8])


@pytest.mark.parametrize("kind", ["empty", "text", "truncated", "sound", "missing"])
def test_probe__no_movie__one_clear_sentence(kind: str, long_gop: Path, tmp_path: Path) -> None:
    path = tmp_path / "clip.mp4"
    if kind == "empty":
        path.write_bytes(b"")
    elif kind == "text":
        path.write_text("This is a letter and no movie.\n" * 50)
    elif kind == "truncated":
        whole = long_gop.read_bytes()
        path.write_bytes(whole[: len(whole) // 2])
    elif kind == "sound":
        with av.open(str(path), "w") as container:
            stream = container.add_stream("aac", rate=48000)
            frame = av.AudioFrame.from_ndarray(np.zeros((1, 1024), np.float32), format="fltp", layout="mono")
            frame.rate = 48000
            container.mux(stream.encode(frame))
            container.mux(stream.encode(None))
    with pytest.raises(MediaError) as caught:
        probe(path)
    message = caught.value.message
    assert "clip.mp4" in message
    assert message.count("\n") == 0
    assert message.endswith(".")


def test_probe__index_first_and_data_cut_off__is_called_truncated(moving: np.ndarray, tmp_path: Path) -> None:
    path = tmp_path / "fast.mp4"
    info = probe(write_movie(tmp_path / "whole.mp4", moving))
    with movie_writer(path, info) as writer:
        for k, picture in enumerate(moving):
            writer.add(picture, k)
    whole = path.read_bytes()
    path.write_bytes(whole[: int(len(whole) * 0.7)])
    with pytest.raises(MediaError) as caught:
        probe(path)
    assert caught.value.code in ("truncated", "unreadable")


def test_probe__tiny_picture__is_refused_by_size(tmp_path: Path) -> None:
    path = write_movie(tmp_path / "tiny.mp4", np.zeros((3, 8, 8, 3), np.uint8))
    with pytest.raises(MediaError, match="8x8"):
        probe(path)


@pytest.mark.published
def test_movie_writer__read_back_by_opencv__same_frames_rate_and_colour(moving: np.ndarray, tmp_path: Path) -> None:
    """Another reader: OpenCV's own FFmpeg build."""
    info = probe(write_movie(tmp_path / "source.mp4", moving[:12], rate=Fraction(24000, 1001)))
    path = tmp_path / "out.mp4"
    with movie_writer(path, info) as writer:
        for k in range(12):
            writer.add(moving[k], k)
    reader = cv2.VideoCapture(str(path))
    assert int(reader.get(cv2.CAP_PROP_FRAME_COUNT)) == 12
    assert reader.get(cv2.CAP_PROP_FPS) == pytest.approx(24000 / 1001, rel=1e-6)
    for k in range(12):
        ok, picture = reader.read()
        assert ok
        assert np.abs(picture[..., ::-1].astype(int) - moving[k]).mean() < 6
    assert probe(path).rate == Fraction(24000, 1001)
    assert probe(path).colour["transfer"] == "BT.709"


def test_movie_writer__a_fault_on_the_way__leaves_nothing(moving: np.ndarray, tmp_path: Path) -> None:
    info = probe(write_movie(tmp_path / "source.mp4", moving[:3]))
    path = tmp_path / "out" / "clip.mp4"
    with pytest.raises(RuntimeError), movie_writer(path, info) as writer:
        writer.add(moving[0], 0)
        raise RuntimeError("stopped")
    assert list(path.parent.iterdir()) == []


def test_movie_writer__odd_size__is_padded_not_refused(tmp_path: Path, moving: np.ndarray) -> None:
    info = probe(write_movie(tmp_path / "source.mp4", moving[:3]))
    odd = type(info)(**{**vars(info), "width": 95, "height": 93})
    with movie_writer(tmp_path / "odd.mp4", odd) as writer:
        writer.add(moving[0][:93, :95], 0)
    assert (probe(tmp_path / "odd.mp4").width, probe(tmp_path / "odd.mp4").height) == (96, 94)


def test_ten_bit_movie__is_read_at_sixteen_bit(tmp_path: Path) -> None:
    path = tmp_path / "deep.mkv"
    ramp = np.tile(np.linspace(0, 65535, 128).astype(np.uint16)[None, :, None], (32, 1, 3))
    with av.open(str(path), "w") as container:
        stream = container.add_stream("ffv1", rate=25)
        stream.width, stream.height, stream.pix_fmt = 128, 32, "gbrp16le"
        frame = av.VideoFrame.from_ndarray(ramp, format="rgb48le").reformat(format="gbrp16le")
        container.mux(stream.encode(frame))
        container.mux(stream.encode(None))
    info = probe(path)
    assert info.dtype == "uint16"
    np.testing.assert_array_equal(open_frames(path, info)[0], ramp)
