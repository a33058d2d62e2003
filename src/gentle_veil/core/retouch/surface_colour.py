"""What in a picture is the surface around a mark, and what is something behind it.

Light and shade leave the ratios of the colours of a matt surface as they are, so the ratios tell skin from what it
stands before, in the sun and in the shade.

References
    [FC04]  G. Finlayson, S. Hordley, M. Drew, "Removing shadows from images", ECCV 2002: log chromaticities do not
            change with the strength of the light.
"""

import cv2
import numpy as np

from gentle_veil.core.retouch.membrane import broad_blur
from gentle_veil.core.types import ImageF32, MaskBool

CALM_SIGMA = 1.5  # px
BAND_PX = 24  # around the mark: most of it is surface
TOLERANCE_LEAST, SPREADS = 0.08, 4.0  # in natural log units; times the surface's own spread
DARKEST = 2e-3
MANY = 4000  # pixels tell where the clusters are; more only take time
BEHIND_SPREADS, LEAST_SPREAD = 3.0, 0.02
RIM_PX = 10  # how deep the doubtful band along the rim may be
RIM_MEDIAN_PX = 8
NEAR_SIGMA = 10.0  # px around a doubtful pixel in which its two sides are asked
LEAST_APART = 0.1  # of what is behind, between the two sides
FEW_PX = 200  # by the rim, that may be a mixture of both
OTHER_PX = 50  # of another colour, from which there is any
FEW, COLOURS = 20, 3  # pixels, that make no cluster; clusters that are asked for where there are many colours
APART = 2.5  # spreads between the centres of two clusters
SAME_HUE = 0.9  # cosine between two colours, as they leave white
FEW_BORDER, EDGE_SIGMA = 20, 2.0  # px; px, Gaussian, without blotches
SOFT_EDGE = 0.07  # of the way from one colour to the other, per px: what is out of focus by 5 px is steeper
OTHER, OTHER_SPREADS = 0.25, 3.0  # how far what is behind lies from the surface: natural log units; spreads of both


Cluster = tuple[np.ndarray, np.ndarray]  # centre (C,) and spread (C,) of some values, mostly two ratios


def log_ratios(img_lin: ImageF32, size: float = 1.0) -> ImageF32:
    """Natural log of R/G and of B/G (h, w, 2) of a scene-linear picture without its grain; ``size`` as in
    `on_surface`."""
    return _ratios(_calm_log(img_lin, size))


def shows_another(ratios: ImageF32, own: np.ndarray, size: float = 1.0) -> bool:
    """Whether some of a picture, by its `log_ratios` (h, w, 2), has beyond doubt another colour than the surface's
    ``own`` (2,)."""
    off = np.hypot(*np.moveaxis(ratios - own, -1, 0))
    return bool((off > OTHER).sum() >= OTHER_PX * size**2)


def on_surface(
    img_lin: ImageF32,
    inside: MaskBool,
    *,
    size: float = 1.0,
    own: np.ndarray | None = None,
    grazed: bool = False,
    front: MaskBool | None = None,
) -> tuple[MaskBool, MaskBool]:
    """(surface, behind): where the picture shows the surface that the mark is on, and where something else.

    Within the mark (``inside``, (h, w)) a pixel is behind only if it is like what is seen behind around it, and
    hangs together with it; a drawing is neither. A surface's own blotches and shades are not behind it: that
    has a colour which is beyond doubt another one. ``size``: how large the picture is beside the one that all lengths
    are meant for; ``own`` (2,): the surface's own `log_ratios`, where they are known. ``grazed``: the surface is what
    light that grazes it by its rim has bleached, too. ``front`` (h, w) is what hides the surface: neither.
    """
    log = _calm_log(img_lin, size)
    ratios = _ratios(log)
    near = cv2.dilate(inside.astype(np.uint8), np.ones((_odd(2 * BAND_PX * size),) * 2, np.uint8)).astype(bool)
    seen = np.ones_like(inside) if front is None else ~front
    band = near & ~inside & seen
    if band.sum() < 50:
        return ~inside, np.zeros_like(inside)
    around, within = (values[:: 1 + len(values) // MANY] for values in (ratios[band], ratios[inside & seen]))
    cluster, others = _surface_cluster(around, within, own)
    off = _off(ratios, *cluster)
    surface = off < 1
    for other in others:
        surface &= off <= _off(ratios, *other)
    surface = _tidy(surface, size)
    beside = ~surface & ~inside & seen
    if beside.sum() < 50:
        return surface, np.zeros_like(inside)
    features = np.concatenate([ratios, log], axis=-1)
    like = _like(features, features[beside & near] if (beside & near).sum() > 50 else features[beside])
    behind = _tidy((like | beside) & ~surface & seen, size)
    lighter = log.mean(axis=-1) - np.median(log[surface & near] if (surface & near).any() else log)
    behind = _others(behind, ~inside & seen, surface, ratios, lighter, cluster, size)
    if not behind.any():
        return surface, np.zeros_like(inside)
    beside_mark = cv2.dilate(inside.astype(np.uint8), np.ones((_odd(2 * RIM_PX * size),) * 2, np.uint8)).astype(bool)
    sure = _tidy(behind & like, size)
    return surface, _up_to_the_rim(np.exp(log), behind, sure, beside_mark, size=size, grazed=grazed)


def _calm_log(img_lin: ImageF32, size: float) -> ImageF32:
    calm = cv2.GaussianBlur(img_lin, (0, 0), CALM_SIGMA * size, borderType=cv2.BORDER_REFLECT)
    return np.log(np.maximum(calm, DARKEST))


def _ratios(log: ImageF32) -> ImageF32:
    return np.stack([log[..., 0] - log[..., 1], log[..., 2] - log[..., 1]], axis=-1)


def rooted(mask: MaskBool, roots: MaskBool) -> MaskBool:
    """The connected parts of a mask that have any of the ``roots`` in them: all (h, w)."""
    _, labels = cv2.connectedComponents(mask.astype(np.uint8))
    return mask & np.isin(labels, np.unique(labels[mask & roots]))


def _others(
    behind: MaskBool,
    outside: MaskBool,
    surface: MaskBool,
    ratios: ImageF32,
    lighter: ImageF32,
    own: Cluster,
    size: float,
) -> MaskBool:
    """The connected parts of what is ``behind`` (h, w) that have another colour than the surface's ``own``, by what of
    them lies ``outside`` the mark: lips and blotches are not behind for that a wall is seen, too, nor is sheen, which
    goes over into the ``surface`` (h, w), or what it leaves out. A part of but a few px is a mixture of both, and goes
    with the others; one that lies all within the mark is a drawing. By how much each place is ``lighter`` (h, w) than
    the surface is natural log."""
    count, labels = cv2.connectedComponents(behind.astype(np.uint8))
    kernel = np.ones((3, 3), np.uint8)
    meets = outside & (cv2.dilate(surface.astype(np.uint8), kernel) > 0)
    others, few = [False], [False]
    for i in range(1, count):
        part = ratios[(labels == i) & outside]
        other = len(part) > 0 and _of_others(part, own)
        others.append(other and not _fades(labels == i, meets, np.median(part, axis=0), ratios, lighter, own[0], size))
        few.append(0 < len(part) < FEW_PX * size**2)
    kept = np.array(others) | (np.array(few) & any(others))
    return np.asarray(kept[labels])


def _fades(
    part: MaskBool,
    meets: MaskBool,
    colour: np.ndarray,
    ratios: ImageF32,
    lighter: ImageF32,
    own: np.ndarray,
    size: float,
) -> bool:
    """Whether a part (h, w) of a ``colour`` (2,) is the surface of its ``own`` (2,) colour under more sheen, or less:
    paler, lighter and of its hue, or all the other way, and one goes over into the other where the surface ``meets`` it
    (h, w), as a limb and what is behind it do not."""
    here, usual = np.expm1(colour), np.expm1(own)
    strength, usual_strength = np.hypot(*here), np.hypot(*usual)
    if (strength < usual_strength) != (np.median(lighter[part]) > 0):
        return False
    if here @ usual < SAME_HUE * strength * usual_strength:
        return False
    across = colour - own
    share = ((ratios - own) @ (across / (across @ across))).astype(np.float32)
    share = cv2.GaussianBlur(share, (0, 0), EDGE_SIGMA * size)
    by_y, by_x = np.gradient(share)
    kernel = np.ones((3, 3), np.uint8)
    border = part ^ (cv2.erode(part.astype(np.uint8), kernel, borderValue=1) > 0)
    if (border & meets).sum() > FEW_BORDER:
        border &= meets
    steep = np.hypot(by_x, by_y)[border]
    return bool(len(steep) and np.median(steep) < SOFT_EDGE / size)


def _up_to_the_rim(
    img_lin: ImageF32, behind: MaskBool, sure: MaskBool, near: MaskBool, *, size: float, grazed: bool
) -> MaskBool:
    """What is ``behind``, up to the surface's rim: there blur, hairs and light that grazes the skin make all unlike
    itself.

    Next to what is ``sure``, a pixel goes to the nearer of two colours: of what is behind near by, and of what lies
    further in, drawn on or not. In and beside the mark (``near``) that adds to what is behind; with ``grazed`` it takes
    away from it all along the rim.
    """
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (_odd(2 * RIM_PX * size),) * 2)
    reached = cv2.dilate(sure.astype(np.uint8), kernel) > 0
    beyond, within = (_local_mean(img_lin, part, NEAR_SIGMA * size) for part in (sure, ~reached))
    across = within - beyond
    apart, least = (np.einsum("yxc,yxc->yx", v, v) for v in (across, LEAST_APART * beyond))
    apart = np.maximum(apart, least)
    share = np.einsum("yxc,yxc->yx", img_lin - beyond, across) / np.maximum(apart, DARKEST**2)
    nearer = sure | (reached & (near | (behind & grazed)) & (share < 0.5))
    # The rim of a limb is smooth: hairs that stand off from it are not part of it.
    calm = cv2.medianBlur(nearer.astype(np.uint8), _odd(RIM_MEDIAN_PX * size)) > 0
    return np.where(reached, calm, behind) if grazed else behind | (calm & near & reached)


def _odd(px: float) -> int:
    """The odd number at px or just above."""
    return 2 * round(px / 2) + 1


def _local_mean(values: ImageF32, where: MaskBool, sigma: float) -> np.ndarray:
    """The mean of values (h, w, 3) over what is near by and ``where``."""
    weight = where.astype(np.float32)[..., None]
    total = broad_blur(np.concatenate([values * weight, weight], axis=-1), sigma)
    return np.asarray(total[..., :3] / np.maximum(total[..., 3:], 1e-6))


def _surface_cluster(band: np.ndarray, within: np.ndarray, own: np.ndarray | None) -> tuple[Cluster, list[Cluster]]:
    """The surface's ratios: of the clusters in the band, that which is nearest to its ``own``, or else that which
    fills more of the band and of the mark together, for skin goes on between the lines of a drawing; and the other
    ones. They are one or two; three where two are as broad as a wall of many colours makes them."""
    clusters = _clusters(band, 2)
    if len(clusters) == 2:
        (a, sa), (b, sb) = clusters
        if (np.abs(a - b) < APART * np.hypot(sa, sb)).all():
            clusters = _clusters(band, COLOURS) if _described(band)[1].max() > OTHER else []
    if not clusters:
        return _described(band), []

    filled = np.zeros(len(clusters))
    if own is not None:
        filled = np.array([-np.hypot(*(centre - own)) for centre, _ in clusters])
    else:
        # What is dark, as hair, is of all colours: a pixel is of the cluster that it is nearer to.
        for part in (band, within):
            offs = np.stack([_off(part, *cluster) for cluster in clusters])
            filled += ((offs < 1) & (offs <= offs.min(axis=0))).mean(axis=1)
    first, *others = (clusters[i] for i in np.argsort(-filled, kind="stable"))
    return first, others


def _clusters(values: np.ndarray, count: int) -> list[Cluster]:
    """So many clusters of values (N, C), or fewer: what is but a few is none."""
    criteria = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 40, 1e-4)
    cv2.setRNGSeed(5)
    _, labels, _ = cv2.kmeans(values.astype(np.float32), count, None, criteria, 4, cv2.KMEANS_PP_CENTERS)
    members = [values[labels.ravel() == i] for i in range(count)]
    return [_described(of) for of in members if len(of) > FEW]


def _of_others(values: np.ndarray, own: Cluster) -> bool:
    """Whether ratios (N, 2) are those of something else, or of some things: each beyond doubt of another colour."""
    if _another(_described(values), own):
        return True
    few = values[:: 1 + len(values) // MANY]
    return len(few) > COLOURS * FEW and all(_another(cluster, own) for cluster in _clusters(few, COLOURS))


def _like(features: np.ndarray, those: np.ndarray) -> MaskBool:
    """Which pixels, by their features (h, w, C), the first two log ratios, are like ``those`` (N, C) by and large; if
    those have many colours, like those of one of them."""
    usual, spread = _described(those)
    looks = [(usual, spread)]
    if spread[:2].max() > OTHER:
        looks = _clusters(those[:: 1 + len(those) // MANY], COLOURS) or looks
    near = [
        (np.abs(features - usual) / (spread + LEAST_SPREAD) < BEHIND_SPREADS).all(axis=-1) for usual, spread in looks
    ]
    return np.asarray(np.any(near, axis=0))


def _another(one: Cluster, own: Cluster) -> bool:
    """Whether a cluster has beyond doubt another colour."""
    (a, spread_a), (b, spread_b) = one, own
    apart = np.abs(a - b)
    return bool(np.hypot(*apart) > OTHER and (apart / np.hypot(spread_a, spread_b)).max() > OTHER_SPREADS)


def _described(values: np.ndarray) -> Cluster:
    centre = np.median(values, axis=0)
    return centre, 1.4826 * np.median(np.abs(values - centre), axis=0) + 1e-3


def _off(ratios: np.ndarray, centre: np.ndarray, spread: np.ndarray) -> np.ndarray:
    """How far points are from a cluster, in units of its tolerance."""
    off = np.abs(ratios - centre) / np.maximum(SPREADS * spread, TOLERANCE_LEAST)
    return np.asarray(np.hypot(off[..., 0], off[..., 1]))


def _tidy(mask: MaskBool, size: float) -> MaskBool:
    """Without specks, and without pinholes."""
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (_odd(4 * size),) * 2)
    opened = cv2.morphologyEx(mask.astype(np.uint8), cv2.MORPH_OPEN, kernel)
    return cv2.morphologyEx(opened, cv2.MORPH_CLOSE, kernel).astype(bool)
