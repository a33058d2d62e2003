"""The veil that puts artwork on a surface."""

from gentle_veil.core.veils.apply.apply import Apply

VEIL = Apply()
