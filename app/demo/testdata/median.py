# The reference: frames locked to one by OpenCV's pyramidal Lucas-Kanade and RANSAC, without what is boxed on each, and
# their median over time.
import json
import sys
import cv2
import numpy as np

plates, truth, n, first, last, every, out = sys.argv[1], sys.argv[2], *map(int, sys.argv[3:7]), sys.argv[7]
boxes = json.load(open(truth))["boxes"]


def read(k):
    m = cv2.imread(plates % k)
    mask = np.full(m.shape[:2], 255, np.uint8)
    l, t, r, b = (int(round(v)) for v in boxes[str(k)])
    mask[max(t, 0):max(b, 0), max(l, 0):max(r, 0)] = 0
    return m, mask


here, free = read(n)
grey = cv2.cvtColor(here, cv2.COLOR_BGR2GRAY)
points = cv2.goodFeaturesToTrack(grey, 800, 0.01, 6, mask=free)
stack = [np.where(free[..., None] > 0, here, np.nan).astype(np.float32)]
for k in range(first, last + 1, every):
    if k == n:
        continue
    m, mask = read(k)
    moved, ok, _ = cv2.calcOpticalFlowPyrLK(grey, cv2.cvtColor(m, cv2.COLOR_BGR2GRAY), points, None, winSize=(21, 21), maxLevel=4)
    good = ok.ravel() == 1
    h, _ = cv2.findHomography(moved[good], points[good], cv2.RANSAC, 1.0)
    size = (m.shape[1], m.shape[0])
    laid = cv2.warpPerspective(m.astype(np.float32), h, size, flags=cv2.INTER_CUBIC)
    shown = cv2.warpPerspective(mask, h, size, flags=cv2.INTER_NEAREST)
    stack.append(np.where(shown[..., None] > 0, laid, np.nan))
made = np.nanmedian(np.stack(stack), axis=0)
made = np.where(np.isnan(made), here, made)
cv2.imwrite(out, np.clip(np.round(made), 0, 255).astype(np.uint8))
