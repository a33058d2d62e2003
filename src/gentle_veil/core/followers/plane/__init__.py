"""The follower that moves a region as a plane."""

from gentle_veil.core.followers.plane.plane import PlaneFollower

FOLLOWER = PlaneFollower()
