"""The follower that moves a region by many small patterns."""

from gentle_veil.core.followers.points.points import PointsFollower

FOLLOWER = PointsFollower()
