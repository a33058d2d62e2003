"""Follow a region of a face: the mesh, led by the whole face where the region is not seen, and the head's pose.

Where there is no face under the outline it is the mesh follower alone.
"""

from typing import Any

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.followers.face.options import FaceOptions
from gentle_veil.core.followers.mesh.follower import MeshFollower, Run
from gentle_veil.core.followers.mesh.options import MeshOptions


class FaceFollower(MeshFollower):
    """See `contracts.follower.Follower`; the points are `faces.landmarks`."""

    kind = "face"
    label = "Face"
    help = "Skin of a face: followed as a mesh, with the head's pose."
    Options = FaceOptions

    def run_on(self, frames: FrameSource, region: Region, options: Any) -> Run:
        return super().run_on(frames, region, MeshOptions(spacing=options.spacing, reach=options.reach))
