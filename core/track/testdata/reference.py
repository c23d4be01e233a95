"""What OpenCV makes of the same frames: the yardstick for our trackers. Times are of the tracking alone.

Usage: reference.py planes FRAMES.u8 WIDTH HEIGHT COUNT x0 y0 x1 y1 [ecc]
       reference.py dense FRAMES.u8 WIDTH HEIGHT COUNT x0 y0 x1 y1 [tv]
       reference.py points FRAMES.u8 WIDTH HEIGHT COUNT SIDE x y [x y ...]

FRAMES.u8 holds COUNT grey pictures one after the other, the reference picture first. Coordinates have pixel centres at
halves; OpenCV's are whole numbers.
"""
import json
import sys
import time

import cv2
import numpy as np

cv2.setNumThreads(2)
kind, path, width, height, count = sys.argv[1], sys.argv[2], *map(int, sys.argv[3:6])
frames = np.fromfile(path, np.uint8).reshape(count, height, width)
base = frames[0]

if kind == "points":
    side = int(sys.argv[6])
    points = np.array(sys.argv[7:], np.float32).reshape(-1, 1, 2) - 0.5
    options = dict(winSize=(side, side), maxLevel=3, criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 40, 0.001))
    out, guess = [], points
    began = time.perf_counter()
    for now in frames[1:]:
        found, ok, _ = cv2.calcOpticalFlowPyrLK(base, now, points, guess.copy(), flags=cv2.OPTFLOW_USE_INITIAL_FLOW, **options)
        out.append((found.reshape(-1, 2) + 0.5).tolist())
        guess = found
    print(json.dumps({"points": out, "seconds": time.perf_counter() - began}))
    sys.exit(0)

x0, y0, x1, y1 = map(int, sys.argv[6:10])

if kind == "dense":
    # Dense motion from the first frame to the last: inverse search (Kroeger et al. 2016), straight and from frame to frame,
    # and the dual TV-L1 (Zach et al. 2007).
    search = cv2.DISOpticalFlow_create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    began = time.perf_counter()
    direct = search.calc(base, frames[-1], None)
    seconds = time.perf_counter() - began
    chained = np.zeros_like(direct)
    ys, xs = np.mgrid[0:height, 0:width].astype(np.float32)
    for one, next in zip(frames, frames[1:]):
        step = search.calc(one, next, None)
        chained = chained + cv2.remap(step, xs + chained[..., 0], ys + chained[..., 1], cv2.INTER_LINEAR)
    tv = cv2.optflow.createOptFlow_DualTVL1().calc(base, frames[-1], None) if "tv" in sys.argv else direct
    cut = lambda f: f[y0:y1, x0:x1].astype(float).ravel().tolist()
    print(json.dumps({"direct": cut(direct), "chained": cut(chained), "tv": cut(tv), "seconds": seconds}))
    sys.exit(0)

# Shi-Tomasi corners of the region, pyramidal Lucas-Kanade (Bouguet 2000) straight from the reference frame with the
# last frame's places as the first guess, forward and back, then a homography by RANSAC (threshold 1 px).
mask = np.zeros_like(base)
mask[y0:y1, x0:x1] = 255
corners = cv2.goodFeaturesToTrack(base, 400, 0.005, 7, mask=mask)
options = dict(winSize=(15, 15), maxLevel=4, criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 40, 0.003))
flow, guess = [], corners.copy()
began = time.perf_counter()
for now in frames[1:]:
    found, ok, _ = cv2.calcOpticalFlowPyrLK(base, now, corners, guess.copy(), flags=cv2.OPTFLOW_USE_INITIAL_FLOW, **options)
    back, ok2, _ = cv2.calcOpticalFlowPyrLK(now, base, found, corners.copy(), flags=cv2.OPTFLOW_USE_INITIAL_FLOW, **options)
    good = (ok.ravel() == 1) & (ok2.ravel() == 1) & (np.linalg.norm((back - corners).reshape(-1, 2), axis=1) < 0.7)
    h = None
    if good.sum() >= 4:
        h, _ = cv2.findHomography(corners[good] + 0.5, found[good] + 0.5, cv2.RANSAC, 1.0)
    flow.append(None if h is None else h.ravel().tolist())
    if h is not None:
        guess = cv2.perspectiveTransform(corners + 0.5, h).astype(np.float32) - 0.5
flow_seconds = time.perf_counter() - began

# Enhanced correlation coefficient (Evangelidis & Psarakis 2008) between the region and each frame, started from the
# frame before.
ecc, ecc_seconds = [], 0.0
if "ecc" in sys.argv:
    template = base[y0:y1, x0:x1]
    w = np.array([[1, 0, x0], [0, 1, y0], [0, 0, 1]], np.float32)
    began = time.perf_counter()
    for now in frames[1:]:
        try:
            _, w = cv2.findTransformECC(template, now, w, cv2.MOTION_HOMOGRAPHY, (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 50, 1e-5), None, 5)
        except cv2.error:
            ecc.append(None)
            continue
        # From the template's whole numbers to the frame's halves.
        whole = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]]) @ w @ np.array([[1, 0, -0.5 - x0], [0, 1, -0.5 - y0], [0, 0, 1]])
        ecc.append((whole / whole[2, 2]).ravel().tolist())
    ecc_seconds = time.perf_counter() - began
print(json.dumps({"flow": flow, "flowSeconds": flow_seconds, "ecc": ecc, "eccSeconds": ecc_seconds}))
