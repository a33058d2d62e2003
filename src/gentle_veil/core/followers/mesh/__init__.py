"""The follower that bends with the surface."""

from gentle_veil.core.followers.mesh.mesh import MeshFollower

FOLLOWER = MeshFollower()
