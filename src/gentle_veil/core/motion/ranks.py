"""Values by their rank in plain arrays: what the loop over frames asks for twenty times a frame.

`numpy.median` and `numpy.percentile` give the same; on a few thousand values their care for every kind of array takes
longer than the search.
"""

import numpy as np


def ranked(values: np.ndarray, *shares: float) -> tuple[float, ...]:
    """The values of an array of any shape at ``shares``, 0 to 1, of their order, linearly between the nearest two.

    Raises:      ValueError when there are none
    """
    flat = np.ravel(values)
    if not flat.size:
        raise ValueError("no value of nothing")
    places = [share * (flat.size - 1) for share in shares]
    between = [(int(place), min(int(place) + 1, flat.size - 1)) for place in places]
    ordered = np.partition(flat, sorted({rank for pair in between for rank in pair}))
    return tuple(
        float(ordered[low]) + (place - low) * (float(ordered[high]) - float(ordered[low]))
        for place, (low, high) in zip(places, between, strict=True)
    )


def middle(values: np.ndarray) -> float:
    """The median of an array's values."""
    return ranked(values, 0.5)[0]
