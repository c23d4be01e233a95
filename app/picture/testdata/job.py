"""The job of TestAWholeJob with OpenCV and NumPy: python job.py FRAMES OUT FIRST LAST HOME. Prints seconds."""
import sys, time
import cv2
import numpy as np

frames, out, first, last, home = sys.argv[1], sys.argv[2], *map(int, sys.argv[3:6])
x0, y0, w, h = 600, 300, 600, 400          # the region that is followed
px, py, size = 800, 400, 300               # the patch
dx, dy = 330, 20                           # where its clean pixels come from
feather, room = 3, 40

began = time.perf_counter()
codes = np.arange(256) / 255.0
decode = np.where(codes <= 0.04045, codes / 12.92, ((codes + 0.055) / 1.055) ** 2.4).astype(np.float32)
light = np.linspace(0, 1, 4096)
encode = np.clip(np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055) * 255 + 0.5, 0, 255).astype(np.uint8)

pictures = {n: cv2.imread(frames % n) for n in range(first, last + 1)}
# The parts that are compared, with a margin: the surface moves.
margin = 60
gx, gy = x0 - margin, y0 - margin
part = lambda n: cv2.cvtColor(pictures[n][gy:y0 + h + margin, gx:x0 + w + margin], cv2.COLOR_BGR2GRAY).astype(np.float32) / 255
template = part(home)[margin:-margin, margin:-margin]
criteria = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 50, 1e-5)

# From the region's own coordinates to those of each frame, each begun from its neighbour.
shift = np.array([[1, 0, margin], [0, 1, margin], [0, 0, 1]], np.float32)
found = {home: shift}
for step in (1, -1):
    m = shift
    n = home + step
    while first <= n <= last:
        _, m = cv2.findTransformECC(template, part(n), m.copy(), cv2.MOTION_HOMOGRAPHY, criteria, None, 5)
        found[n] = m
        n += step

whole = lambda m: np.array([[1, 0, gx], [0, 1, gy], [0, 0, 1]]) @ m @ np.array([[1, 0, -x0], [0, 1, -y0], [0, 0, 1]])

# The patch at home with room around it, and its soft matte.
box = (px - room, py - room, size + 2 * room, size + 2 * room)
bx, by, bw, bh = box
held = decode[pictures[home]]
clean = held[by + dy:by + dy + bh, bx + dx:bx + dx + bw]
under = held[by:by + bh, bx:bx + bw]
matte = np.zeros((bh, bw), np.float32)
matte[room:-room, room:-room] = 1
matte = cv2.GaussianBlur(cv2.dilate(matte, np.ones((feather, feather))), (0, 0), feather / 2)
low = lambda p: cv2.GaussianBlur(p, (0, 0), 12)
noise = np.float32(np.std(pictures[home][by:by + bh, bx:bx + bw].astype(np.float32) - cv2.medianBlur(pictures[home][by:by + bh, bx:bx + bw], 3)))
random = np.random.default_rng(1)

outside = 1 - cv2.dilate(matte, np.ones((9, 9)))
for n in range(first, last + 1):
    m = whole(found[n])
    corners = cv2.perspectiveTransform(np.float32([[[bx, by], [bx + bw, by], [bx + bw, by + bh], [bx, by + bh]]]), m.astype(np.float32))[0]
    l, t = np.maximum(np.floor(corners.min(0)).astype(int) - 2, 0)
    r, b = np.minimum(np.ceil(corners.max(0)).astype(int) + 2, [1920, 1080])
    to = np.array([[1, 0, -l], [0, 1, -t], [0, 0, 1]]) @ m @ np.array([[1, 0, bx], [0, 1, by], [0, 0, 1]])
    warp = lambda p, how: cv2.warpPerspective(p, to, (r - l, b - t), flags=how)
    patch = warp(clean, cv2.INTER_CUBIC)
    ground, mask, around = warp(under, cv2.INTER_LINEAR), warp(matte, cv2.INTER_LINEAR), warp(outside, cv2.INTER_LINEAR)
    plate = decode[pictures[n][t:b, l:r]]
    # How the light around the patch is now beside how it was, carried over it smoothly.
    k = around[..., None]
    gain = np.clip((low(plate * k) + 1e-3) / (low(ground * k) + 1e-3), 0.25, 4)
    grain = cv2.GaussianBlur(random.standard_normal((b - t, r - l, 3)).astype(np.float32), (0, 0), 0.6)
    patch = patch * gain
    patch += grain * (noise / 255 * 0.3)
    a = mask[..., None]
    result = plate * (1 - a) + patch * a
    done = pictures[n].copy()
    changed = encode[np.clip(result * 4095 + 0.5, 0, 4095).astype(np.int32)]
    done[t:b, l:r] = np.where(a > 0, changed, done[t:b, l:r])
    cv2.imwrite(out % n, done)
print(time.perf_counter() - began)
