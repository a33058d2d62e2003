"""The conventions every module of the core shares, said once.

* Points are ``(x, y)``: x to the right, y down, pixel centres at integers, ``(0, 0)`` the centre of the
  top-left pixel. Arrays index ``[y, x]``; vectors stand on the last axis.
* Maps are named target-from-source, so neighbours must match: ``tex_from_ref(ref_from_frame(p))``.
* ``k`` counts frames from 0 inside a shot; the file's own number is ``source_frame``.
* ``img_lin`` is scene-linear, ``img_enc`` encoded, ``img_raw`` the source's code values.
* ``matte`` is float 0..1 (how much), ``mask`` bool (which), ``conf`` float 0..1 (how sure).
"""

from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

ImageF32: TypeAlias = NDArray[np.float32]
MatteF32: TypeAlias = NDArray[np.float32]
MaskBool: TypeAlias = NDArray[np.bool_]
Points: TypeAlias = NDArray[np.float64]
Matrix: TypeAlias = NDArray[np.float64]
RawImage: TypeAlias = NDArray
