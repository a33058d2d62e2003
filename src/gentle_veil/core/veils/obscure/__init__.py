"""The veil that makes somebody unrecognisable."""

from gentle_veil.core.veils.obscure.obscure import Obscure

VEIL = Obscure()
