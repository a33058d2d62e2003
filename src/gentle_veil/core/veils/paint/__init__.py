"""The veil kind that carries painted strokes."""

from gentle_veil.core.veils.paint.paint import Paint

VEIL = Paint()
