"""The veil that evens skin."""

from gentle_veil.core.veils.smooth.smooth import Smooth

VEIL = Smooth()
