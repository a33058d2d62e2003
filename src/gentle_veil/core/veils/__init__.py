"""Veil kinds, one folder each; `VEILS` lists them by kind."""

import sys

from gentle_veil.core.contracts.loader import load_plugins
from gentle_veil.core.contracts.veil import VeilKind

VEILS: dict[str, VeilKind] = load_plugins(sys.modules[__name__], "VEIL")
