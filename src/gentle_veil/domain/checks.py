"""Find all faults of a recipe at once, each with its path and what to do."""

import math
import re
from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel, ValidationError

from gentle_veil.core.contracts.params import ParamSpec, specs_of
from gentle_veil.core.errors import RecipeError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.veils import VEILS
from gentle_veil.domain.recipe import Keys, Outline, PlaceWritten, PlacingWritten, PlateWritten, Recipe, Value
from gentle_veil.domain.strokes import SelectionStroke, StrokeWritten

Fault = dict[str, str]
MOST_PLACES, PLACE_SIZES = 12, (0.2, 5.0)
LISTS: dict[str, tuple[str, type[BaseModel]]] = {
    "strokes": ("strokes", StrokeWritten),
    "selection": ("strokes", SelectionStroke),
    "plates": ("plates, each with its frame", PlateWritten),
    "placings": ("points, each with its frame, where it is on the reference and where it was placed", PlacingWritten),
}
VEIL_LIMITS = {"feather": (0.0, 500.0), "feather_in": (0.0, 500.0), "grow": (-200.0, 200.0), "opacity": (0.0, 1.0)}


def read_recipe(document: Any) -> Recipe:
    """A recipe from JSON data.

    Raises: RecipeError, whose detail["faults"] lists every fault as ``{"path", "message"}``
    """
    if not isinstance(document, dict):
        raise RecipeError("A recipe is a JSON object with drapes and veils.", faults=[])
    try:
        recipe = Recipe.model_validate(document)
    except ValidationError as fault:
        faults = [{"path": _path(e["loc"]), "message": _plain(e)} for e in fault.errors(include_url=False)]
        raise _error(faults) from None
    faults = list(recipe_faults(recipe))
    if faults:
        raise _error(faults)
    return recipe


def _error(faults: list[Fault]) -> RecipeError:
    first = f"{faults[0]['path'] or 'recipe'}: {faults[0]['message']}"
    more = "" if len(faults) == 1 else f" (and {len(faults) - 1} more)"
    return RecipeError(f"The recipe has {len(faults)} fault{'s' * (len(faults) > 1)}. {first}{more}", faults=faults)


def _path(parts: tuple[int | str, ...]) -> str:
    # Pydantic names the branch of a union; a person wants the place in the document.
    shown = [p for p in parts if p not in ("float", "Keys", "tuple[float, float]", "[key]")]
    return "".join(f"[{p}]" if isinstance(p, int) else f".{p}" for p in shown).lstrip(".")


def _plain(error: Any) -> str:
    kind = error["type"]
    if kind == "missing":
        return "is missing; it is needed"
    if kind == "extra_forbidden":
        return "is not known; check its spelling"
    message = str(error["msg"])
    return message.removeprefix("Value error, ")[:200]


def recipe_faults(recipe: Recipe) -> Iterator[Fault]:
    """Faults that the shape of the document does not show."""
    yield from _doubled("drapes", [d.name for d in recipe.drapes])
    yield from _doubled("veils", [v.name for v in recipe.veils])
    for i, drape in enumerate(recipe.drapes):
        path = f"drapes[{i}]"
        if drape.reference_outline() is None:
            yield _fault(
                f"{path}.outline",
                f"has no outline for reference frame {drape.reference}; draw or add one there",
            )
        yield from _uneven(f"{path}.outline", {f: o for f, o in drape.outline.items() if f in drape.reference_frames})
        for j, tack in enumerate(drape.tacks):
            if tack.frame in drape.reference_frames:
                yield _fault(
                    f"{path}.tacks[{j}].frame", f"{tack.frame} is a reference frame, which is exact; remove it"
                )
        for name in ("forgotten", "crossed"):
            yield from _span_faults(f"{path}.{name}", getattr(drape, name), drape.reference_frames)
        follower = FOLLOWERS.get(drape.follower.kind)
        if follower is None:
            yield _fault(f"{path}.follower.kind", f"'{drape.follower.kind}' is none of {', '.join(FOLLOWERS)}")
        else:
            yield from _param_faults(f"{path}.follower.options", drape.follower.options, follower.Options)
    yield from _shape_faults(recipe)
    names = {d.name for d in recipe.drapes}
    for i, veil in enumerate(recipe.veils):
        path = f"veils[{i}]"
        if veil.drape is not None and veil.drape not in names:
            yield _fault(f"{path}.drape", f"'{veil.drape}' is not a drape of this recipe; name one of its drapes")
        if veil.drape is not None and veil.outline is None:
            yield _fault(f"{path}.outline", f"is missing; a veil on the drape '{veil.drape}' needs one")
        kind = VEILS.get(veil.kind)
        if kind is None:
            yield _fault(f"{path}.kind", f"'{veil.kind}' is none of {', '.join(VEILS)}")
        else:
            if veil.drape is None and not kind.on_picture:
                yield _fault(f"{path}.drape", f"is missing; {veil.kind} rests on a drape, name one of its drapes")
            yield from _param_faults(f"{path}.params", veil.params, kind.Params)
        if veil.range is not None and veil.range[0] > veil.range[1]:
            yield _fault(f"{path}.range", f"begins at {veil.range[0]}, after it ends at {veil.range[1]}; swap them")
        for name, (low, high) in VEIL_LIMITS.items():
            yield from _value_faults(f"{path}.{name}", getattr(veil, name), low, high)


def _span_faults(path: str, spans: list[tuple[int, int]], references: list[int]) -> Iterator[Fault]:
    for i, (first, last) in enumerate(spans):
        if first > last:
            yield _fault(f"{path}[{i}]", f"begins at {first}, after it ends at {last}; swap them")
        elif any(first <= f <= last for f in references):
            yield _fault(f"{path}[{i}]", "holds a reference frame, which is always known; leave it out")


def _shape_faults(recipe: Recipe) -> Iterator[Fault]:
    """Faults of holdouts and of outlines that are keyed over frames."""
    yield from _doubled("holdouts", [h.name for h in recipe.holdouts])
    names = {d.name for d in recipe.drapes}
    for i, holdout in enumerate(recipe.holdouts):
        path = f"holdouts[{i}]"
        yield from _uneven(f"{path}.shapes", holdout.shapes)
        if holdout.rides is not None and holdout.rides not in names:
            yield _fault(f"{path}.rides", f"'{holdout.rides}' is not a drape of this recipe; name one of its drapes")
        for j, name in enumerate(holdout.before or ()):
            if name not in names:
                yield _fault(f"{path}.before[{j}]", f"'{name}' is not a drape of this recipe; name one of its drapes")
        if holdout.range is not None and holdout.range[0] > holdout.range[1]:
            yield _fault(f"{path}.range", f"begins at {holdout.range[0]}, after it ends at {holdout.range[1]}")
    for i, veil in enumerate(recipe.veils):
        if veil.shapes and veil.outline is None:
            yield _fault(f"veils[{i}].shapes", "correct an outline that is not there; give the veil an outline")
        elif veil.outline is not None:
            yield from _uneven(f"veils[{i}].shapes", {veil.frame: veil.outline} | veil.shapes)


def _uneven(path: str, shapes: dict[int, Outline]) -> Iterator[Fault]:
    counts = {len(s.points) for s in shapes.values()}
    if len(counts) > 1:
        yield _fault(path, f"have {', '.join(map(str, sorted(counts)))} points; give every frame as many")


def _doubled(where: str, names: list[str]) -> Iterator[Fault]:
    for i, name in enumerate(names):
        if name in names[:i]:
            yield _fault(f"{where}[{i}].name", f"'{name}' is used twice; give each its own name")


def _value_faults(path: str, value: Value, low: float | None, high: float | None) -> Iterator[Fault]:
    numbers = list(value.keys.values()) if isinstance(value, Keys) else [value]
    for number in numbers:
        if not math.isfinite(number) or (low is not None and number < low) or (high is not None and number > high):
            yield _fault(path, f"is {number}; it may be {low:g} to {high:g}")


def _param_faults(path: str, given: dict[str, Any], params_type: type) -> Iterator[Fault]:
    specs = specs_of(params_type)
    for name, value in given.items():
        if name not in specs:
            yield _fault(f"{path}.{name}", f"is not known; it may be {', '.join(specs)}")
            continue
        yield from _one_param(f"{path}.{name}", value, specs[name][0])


def _one_param(path: str, value: Any, spec: ParamSpec) -> Iterator[Fault]:
    if spec.type == "number":
        if spec.keyable and isinstance(value, dict):
            try:
                yield from _value_faults(path, Keys.model_validate(value), spec.low, spec.high)
            except ValidationError:
                yield _fault(path, 'must be a number or {"keys": {"frame": number}, "ease": "linear"}')
        elif isinstance(value, bool) or not isinstance(value, int | float):
            yield _fault(path, "must be a number")
        else:
            yield from _value_faults(path, float(value), spec.low, spec.high)
    elif spec.type == "switch" and not isinstance(value, bool):
        yield _fault(path, "must be true or false")
    elif spec.type == "choice" and value not in spec.choices:
        yield _fault(path, f"must be one of {', '.join(spec.choices)}")
    elif spec.type == "vector" and value is not None:
        good = isinstance(value, list | tuple) and len(value) == 2
        if not good or not all(isinstance(v, int | float) and math.isfinite(v) for v in value):
            yield _fault(path, "must be two numbers, x and y, or null")
    elif spec.type == "points" and not (isinstance(value, list | tuple) and all(_is_pair(v) for v in value)):
        yield _fault(path, "must be a list of points, each two numbers, x and y")
    elif spec.type == "places":
        yield from _place_faults(path, value)
    elif spec.type in LISTS:
        yield from _list_faults(path, value, *LISTS[spec.type])
    elif spec.type in ("artwork", "plate") and not isinstance(value, str):
        yield _fault(path, "must be the name of a piece of artwork")
    elif spec.type == "colour" and not (isinstance(value, str) and re.fullmatch(r"#[0-9a-fA-F]{6}", value)):
        yield _fault(path, "must be a colour like #8a6f5c")
    elif spec.type == "names" and not (isinstance(value, list | tuple) and all(isinstance(v, str) for v in value)):
        yield _fault(path, "must be a list of names")


def _place_faults(path: str, value: Any) -> Iterator[Fault]:
    if not isinstance(value, list | tuple) or len(value) > MOST_PLACES:
        yield _fault(path, f"must be a list of places, at most {MOST_PLACES}")
        return
    for i, written in enumerate(value):
        faults = list(_written_faults(f"{path}[{i}]", written, PlaceWritten))
        yield from faults or _value_faults(f"{path}[{i}].size", PlaceWritten.model_validate(written).size, *PLACE_SIZES)


def _list_faults(path: str, value: Any, what: str, written_as: type[BaseModel]) -> Iterator[Fault]:
    if not isinstance(value, list | tuple):
        yield _fault(path, f"must be a list of {what}")
        return
    for i, written in enumerate(value):
        yield from _written_faults(f"{path}[{i}]", written, written_as)


def _written_faults(path: str, written: Any, written_as: type[BaseModel]) -> Iterator[Fault]:
    try:
        written_as.model_validate(written)
    except ValidationError as fault:
        for e in fault.errors(include_url=False):
            yield {"path": f"{path}{_dotted(e['loc'])}", "message": _plain(e)}


def _dotted(parts: tuple[int | str, ...]) -> str:
    return "".join(f"[{p}]" if isinstance(p, int) else f".{p}" for p in parts)


def _is_pair(value: Any) -> bool:
    return (
        isinstance(value, list | tuple)
        and len(value) == 2
        and all(isinstance(v, int | float) and math.isfinite(v) for v in value)
    )


def _fault(path: str, message: str) -> Fault:
    return {"path": path, "message": message}
