"""Compiled loops: a z-buffer of triangles, their shading, and noise in space."""

import numba
import numpy as np


@numba.njit(cache=True)
def hashed(x, y, z, seed):  # type: ignore[no-untyped-def]
    h = np.uint32(x * 374761393 + y * 668265263 + z * 2147483647 + seed * 974711)
    h = np.uint32((h ^ (h >> np.uint32(13))) * np.uint32(1274126177))
    h = np.uint32(h ^ (h >> np.uint32(16)))
    return (h & np.uint32(0xFFFFFF)) / 16777216.0


@numba.njit(cache=True)
def noise(places, seed):  # type: ignore[no-untyped-def]
    """Smooth noise, -1 to 1, with a period of 1, at places (N, 3)."""
    out = np.empty(places.shape[0], np.float32)
    for i in range(places.shape[0]):
        fx, fy, fz = np.floor(places[i, 0]), np.floor(places[i, 1]), np.floor(places[i, 2])
        x, y, z = places[i, 0] - fx, places[i, 1] - fy, places[i, 2] - fz
        x, y, z = x * x * (3 - 2 * x), y * y * (3 - 2 * y), z * z * (3 - 2 * z)
        total = 0.0
        for k in range(8):
            dx, dy, dz = k & 1, (k >> 1) & 1, (k >> 2) & 1
            weight = (x if dx else 1 - x) * (y if dy else 1 - y) * (z if dz else 1 - z)
            total += weight * hashed(int(fx) + dx, int(fy) + dy, int(fz) + dz, seed)
        out[i] = 2 * total - 1
    return out


@numba.njit(cache=True)
def to_nearest(places, seed):  # type: ignore[no-untyped-def]
    """The distance from places (N, 3) to the nearest of scattered points, one per unit cube."""
    out = np.empty(places.shape[0], np.float32)
    for i in range(places.shape[0]):
        ix, iy, iz = int(np.floor(places[i, 0])), int(np.floor(places[i, 1])), int(np.floor(places[i, 2]))
        best = 9.0
        for k in range(27):
            cx, cy, cz = ix + k % 3 - 1, iy + k // 3 % 3 - 1, iz + k // 9 - 1
            a = cx + hashed(cx, cy, cz, seed) - places[i, 0]
            b = cy + hashed(cx, cy, cz, seed + 1) - places[i, 1]
            c = cz + hashed(cx, cy, cz, seed + 2) - places[i, 2]
            best = min(best, a * a + b * b + c * c)
        out[i] = np.sqrt(best)
    return out


@numba.njit(cache=True, fastmath=True)
def texel(texture, u, v, channel):  # type: ignore[no-untyped-def]
    height, width = texture.shape[0], texture.shape[1]
    x = min(max(u * width - 0.5, 0.0), width - 1.001)
    y = min(max((1 - v) * height - 0.5, 0.0), height - 1.001)
    ix, iy = int(x), int(y)
    fx, fy = x - ix, y - iy
    above = (1 - fx) * texture[iy, ix, channel] + fx * texture[iy, ix + 1, channel]
    below = (1 - fx) * texture[iy + 1, ix, channel] + fx * texture[iy + 1, ix + 1, channel]
    return (1 - fy) * above + fy * below


@numba.njit(cache=True, fastmath=True)
def draw(xy, z, triangles, uvs, texture, through, start, seed, depth, ids, shares):  # type: ignore[no-untyped-def]
    """Triangles of vertices at ``xy`` (N, 2) px and ``z`` (N,) away, into a z-buffer: ``ids`` get start + triangle,
    ``shares`` (H, W, 2) how much of its first two corners. With ``through``, alpha is drawn as a dither."""
    height, width = depth.shape
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        if min(z[a], min(z[b], z[c])) <= 0.1:
            continue
        ax, ay, bx, by, cx, cy = xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if abs(area) < 1e-12:
            continue
        x0, x1 = max(0, int(np.ceil(min(ax, min(bx, cx))))), min(width - 1, int(np.floor(max(ax, max(bx, cx)))))
        y0, y1 = max(0, int(np.ceil(min(ay, min(by, cy))))), min(height - 1, int(np.floor(max(ay, max(by, cy)))))
        for y in range(y0, y1 + 1):
            for x in range(x0, x1 + 1):
                u = ((cx - bx) * (y - by) - (cy - by) * (x - bx)) / area
                v = ((ax - cx) * (y - cy) - (ay - cy) * (x - cx)) / area
                if min(u, min(v, 1 - u - v)) < -1e-6:
                    continue
                away = 1 / (u / z[a] + v / z[b] + (1 - u - v) / z[c])
                if away >= depth[y, x]:
                    continue
                p, q = u / z[a] * away, v / z[b] * away
                if through:
                    r = 1 - p - q
                    tu = p * uvs[t, 0, 0] + q * uvs[t, 1, 0] + r * uvs[t, 2, 0]
                    tv = p * uvs[t, 0, 1] + q * uvs[t, 1, 1] + r * uvs[t, 2, 1]
                    if texel(texture, tu, tv, 3) < 0.05 + 0.9 * hashed(x, y, t, seed):
                        continue
                depth[y, x], ids[y, x] = away, start + t
                shares[y, x, 0], shares[y, x, 1] = p, q


@numba.njit(cache=True, fastmath=True)
def shade(  # type: ignore[no-untyped-def]
    ids, shares, triangles, uvs, thing, at, normal, textures, gloss, to_light, light, ambient, eye, shadow, out, cover
):
    """Adds the light (H, W, 4), alpha last, that each pixel's surface sends, and to ``cover`` its texture's marks.

    ``shadow``: a band across x and y, as (a, b, from, softness, strength, width)
    """
    n, e = np.zeros(3), np.zeros(3)
    for y in range(ids.shape[0]):
        for x in range(ids.shape[1]):
            t = ids[y, x]
            if t < 0:
                continue
            p, q = shares[y, x, 0], shares[y, x, 1]
            r = 1 - p - q
            i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            into, nn, ee, ne, facing = -shadow[2], 1e-12, 1e-12, 0.0, 0.0
            for c in range(3):
                here = p * at[i, c] + q * at[j, c] + r * at[k, c]
                n[c] = p * normal[i, c] + q * normal[j, c] + r * normal[k, c]
                e[c] = eye[c] - here
                nn, ee, ne = nn + n[c] * n[c], ee + e[c] * e[c], ne + n[c] * e[c]
                facing += n[c] * to_light[c]
                into += shadow[c] * here if c < 2 else 0.0
            side = 1.0 if ne >= 0 else -1.0
            facing *= side / np.sqrt(nn)
            between, length = 0.0, 1e-12
            for c in range(3):
                halfway = to_light[c] + e[c] / np.sqrt(ee)
                between += side * n[c] / np.sqrt(nn) * halfway
                length += halfway * halfway
            tu = p * uvs[t, 0, 0] + q * uvs[t, 1, 0] + r * uvs[t, 2, 0]
            tv = p * uvs[t, 0, 1] + q * uvs[t, 1, 1] + r * uvs[t, 2, 1]
            texture = textures[thing[t]]
            dark = 1 - shadow[4] / (1 + np.exp(-into / shadow[3])) / (1 + np.exp((into - shadow[5]) / shadow[3]))
            gleam = max(0.0, between / np.sqrt(length)) ** 28 * gloss[thing[t]] * dark * (1.0 if facing > 0 else 0.0)
            if texture.shape[2] > 5:
                gleam *= texel(texture, tu, tv, 5)
            matt, up = max(0.0, (facing + 0.25) / 1.25) * dark, 0.5 + 0.5 * side * n[1] / np.sqrt(nn)
            for c in range(3):
                around = ambient[0, c] * up + ambient[1, c] * (1 - up)
                out[y, x, c] += texel(texture, tu, tv, c) * (matt * light[c] + around) + gleam * light[c]
            out[y, x, 3] += 1
            if texture.shape[2] > 4:
                cover[y, x] += texel(texture, tu, tv, 4)
