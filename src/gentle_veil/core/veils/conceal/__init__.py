"""The veil that takes a mark away."""

from gentle_veil.core.veils.conceal.conceal import Conceal

VEIL = Conceal()
