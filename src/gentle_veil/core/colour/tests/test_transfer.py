"""Transfer functions against their standards."""

import numpy as np
import pytest

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.colour.transfer import DECODE, ENCODE, bt709_encode, srgb_decode, srgb_encode


@pytest.mark.published
@pytest.mark.parametrize(
    ("linear", "encoded"),
    [(0.0, 0.0), (0.018, 0.081), (1.0, 1.0), (0.18, 1.099 * 0.18**0.45 - 0.099)],  # BT.709-6, 1.2
)
def test_bt709_encode__points_of_the_standard(linear: float, encoded: float) -> None:
    assert float(bt709_encode(np.float32(linear))) == pytest.approx(encoded, abs=3e-4)


@pytest.mark.published
@pytest.mark.parametrize(
    ("linear", "encoded"), [(0.0, 0.0), (0.0031308, 0.04045), (1.0, 1.0), (0.5, 1.055 * 0.5 ** (1 / 2.4) - 0.055)]
)  # IEC 61966-2-1, 5.2
def test_srgb_encode__points_of_the_standard(linear: float, encoded: float) -> None:
    assert float(srgb_encode(np.float32(linear))) == pytest.approx(encoded, abs=3e-5)
    assert float(srgb_decode(np.float32(encoded))) == pytest.approx(linear, abs=3e-5)


@pytest.mark.property
@pytest.mark.parametrize("name", sorted(ENCODE))
def test_transfer__there_and_back__is_the_identity(name: str) -> None:
    values = np.linspace(-0.2, 1.5, 2001, dtype=np.float32)
    np.testing.assert_allclose(DECODE[name](ENCODE[name](values)), values, atol=2e-6)
    assert (np.diff(ENCODE[name](values)) > 0).all()


@pytest.mark.property
@pytest.mark.parametrize("dtype", ["uint8", "uint16"])
@pytest.mark.parametrize("transfer", ["bt709", "srgb", "linear"])
def test_code_values__every_code__comes_back_exactly(dtype: str, transfer: str) -> None:
    encoding = CodeValues(transfer, dtype)
    codes = np.arange(int(encoding.full_scale) + 1).astype(dtype)
    np.testing.assert_array_equal(encoding.from_linear(encoding.to_linear(codes)), codes)


def test_code_values__float_source__is_not_clipped() -> None:
    encoding = CodeValues("linear", "float32")
    values = np.array([-0.5, 0.25, 7.0], np.float32)
    np.testing.assert_array_equal(encoding.from_linear(encoding.to_linear(values)), values)


def test_code_values__beyond_the_range__is_held_inside() -> None:
    encoding = CodeValues("bt709", "uint8")
    np.testing.assert_array_equal(encoding.from_linear(np.array([-1.0, 9.0], np.float32)), [0, 255])
