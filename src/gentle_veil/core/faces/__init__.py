"""Finding faces, telling who is who over a shot, and the points of a face."""
