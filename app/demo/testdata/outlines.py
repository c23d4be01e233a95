# Outlines around what is white on pictures, and around holes in it: as JSON, for each picture a list of (hole, points).
import json
import sys
import cv2

out = {}
for n in range(int(sys.argv[2]), int(sys.argv[3]) + 1):
    white = (cv2.imread(sys.argv[1] % n, cv2.IMREAD_GRAYSCALE) > 0).astype("uint8")
    found, tree = cv2.findContours(white, cv2.RETR_CCOMP, cv2.CHAIN_APPROX_SIMPLE)
    out[n] = [
        {"hole": bool(node[3] >= 0), "points": (c.reshape(-1, 2) + 0.5).tolist()}
        for c, node in zip(found, tree[0] if len(found) else [])
        if len(c) > 2
    ]
json.dump(out, sys.stdout)
