"""The veil that lets the original through again."""

from gentle_veil.core.veils.keep.keep import Keep

VEIL = Keep()
