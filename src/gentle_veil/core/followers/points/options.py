"""What can be set on the points follower."""

from dataclasses import dataclass

from gentle_veil.core.contracts.follower import Placing
from gentle_veil.core.contracts.params import number, placings, points, switch
from gentle_veil.core.followers.mesh.options import reach_option


@dataclass(frozen=True)
class PointsOptions:
    fill: bool = switch(
        True,
        label="Fill the outline",
        help="Places points wherever there is texture. Off: only the points that were placed by hand.",
        group="Points",
    )
    placed: tuple[tuple[float, float], ...] = points(
        label="Placed by hand",
        help="Points on the reference frame, followed whether there is much texture or little.",
        group="Points",
    )
    off: tuple[tuple[float, float], ...] = points(
        label="Switched off",
        help="Places on the reference frame whose nearest point is left out.",
        group="Points",
    )
    again: tuple[Placing, ...] = placings(
        label="Placed again",
        help="Points that were taken to where they are on a frame, and go on from there by how they look there.",
        group="Points",
    )
    denser: tuple[tuple[float, float], ...] = points(
        label="Denser around",
        help="Places on the reference frame around which points lie three times as close.",
        group="Points",
    )
    denser_within: float = number(
        40.0,
        label="Denser within",
        help="How far around those places.",
        group="Points",
        low=5.0,
        high=1000.0,
        step=5.0,
        unit="px",
        keyable=False,
    )
    density: float = number(
        18.0,
        label="Distance of points",
        help="How near to each other well-textured points are placed on the reference frame.",
        group="Points",
        low=6.0,
        high=200.0,
        step=1.0,
        unit="px",
        keyable=False,
    )
    pattern: float = number(
        21.0,
        label="Pattern",
        help="Side of the piece of picture that each point is known by.",
        group="Points",
        low=7.0,
        high=101.0,
        step=2.0,
        unit="px",
        keyable=False,
    )
    search: float = number(
        12.0,
        label="Search",
        help="How far from its predicted place a point is believed.",
        group="Points",
        low=1.0,
        high=100.0,
        step=1.0,
        unit="px",
        keyable=False,
    )
    match: float = number(
        0.7,
        label="Least match",
        help="Correlation with the reference below which a point stops and is carried by its neighbours.",
        group="Points",
        low=0.1,
        high=0.99,
        step=0.05,
        keyable=False,
    )
    refresh: bool = switch(
        True,
        label="Learn new looks",
        help="Where a point looks like a later picture of itself better than like the reference, it is known by that.",
        group="Points",
    )
    reach: float = reach_option(0.2)
