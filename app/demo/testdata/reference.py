"""What OpenCV makes of the same frames: the yardstick for our tracker and filters.

Usage: reference.py track PLATE_FOLDER FIRST LAST REFERENCE x0 y0 x1 y1
       reference.py filters IN.f32 WIDTH HEIGHT SIGMA OUT.f32
"""
import json
import sys

import cv2
import numpy as np

if sys.argv[1] == "filters":
    source, width, height, sigma, out = sys.argv[2], int(sys.argv[3]), int(sys.argv[4]), float(sys.argv[5]), sys.argv[6]
    p = np.fromfile(source, np.float32).reshape(height, width)
    n = int(np.ceil(4 * sigma)) * 2 + 1
    blurred = cv2.GaussianBlur(p, (n, n), sigma, borderType=cv2.BORDER_REPLICATE)
    half = cv2.pyrDown(p, borderType=cv2.BORDER_DEFAULT)
    with open(out, "wb") as f:
        f.write(blurred.tobytes())
        f.write(half.tobytes())
    sys.exit(0)

folder, first, last, reference = sys.argv[2], int(sys.argv[3]), int(sys.argv[4]), int(sys.argv[5])
x0, y0, x1, y1 = map(int, sys.argv[6:10])


def frame(n):
    return cv2.imread(f"{folder}/lm_010.{n:04d}.png", cv2.IMREAD_GRAYSCALE)


# Shi-Tomasi corners of the region, pyramidal Lucas-Kanade (Bouguet 2000) straight from the reference frame with
# the last frame's places as the first guess, forward and back, then a homography by RANSAC (threshold 1 px).
base = frame(reference)
mask = np.zeros_like(base)
mask[y0:y1, x0:x1] = 255
corners = cv2.goodFeaturesToTrack(base, 400, 0.005, 7, mask=mask)
options = dict(winSize=(15, 15), maxLevel=4, criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 40, 0.003))
out = {}
for step, end in ((1, last), (-1, first)):
    guess = corners.copy()
    n = reference
    while n != end:
        n += step
        now = frame(n)
        found, ok, _ = cv2.calcOpticalFlowPyrLK(base, now, corners, guess.copy(), flags=cv2.OPTFLOW_USE_INITIAL_FLOW, **options)
        back, ok2, _ = cv2.calcOpticalFlowPyrLK(now, base, found, corners.copy(), flags=cv2.OPTFLOW_USE_INITIAL_FLOW, **options)
        good = (ok.ravel() == 1) & (ok2.ravel() == 1) & (np.linalg.norm((back - corners).reshape(-1, 2), axis=1) < 0.7)
        # OpenCV's pixel centres are whole numbers, ours are at halves.
        h, _ = cv2.findHomography(corners[good] + 0.5, found[good] + 0.5, cv2.RANSAC, 1.0)
        out[n] = h.ravel().tolist()
        guess = cv2.perspectiveTransform(corners + 0.5, h).astype(np.float32) - 0.5
print(json.dumps(out))
