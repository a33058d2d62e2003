"""Finds followers and veil kinds: every sub-package that exports the named object is one."""

import importlib
import pkgutil
from types import ModuleType
from typing import Any

from gentle_veil.core.errors import CoreError


def load_plugins(package: ModuleType, exported: str) -> dict[str, Any]:
    """Kind -> object, for each sub-package of ``package``; a duplicate or unnamed kind stops the start."""
    found: dict[str, Any] = {}
    for info in sorted(pkgutil.iter_modules(package.__path__), key=lambda i: i.name):
        if not info.ispkg:
            continue
        module = importlib.import_module(f"{package.__name__}.{info.name}")
        plugin = getattr(module, exported, None)
        if plugin is None:
            raise CoreError(f"{module.__name__} must export {exported}.")
        kind = getattr(plugin, "kind", "")
        if not kind or kind in found:
            raise CoreError(f"{module.__name__} needs a kind of its own; '{kind}' is empty or taken.")
        found[kind] = plugin
    return found
