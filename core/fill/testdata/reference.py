"""What OpenCV's seamlessClone (NORMAL_CLONE: Perez, Gangnet & Blake 2003) makes of the same pictures.

Usage: reference.py SOURCE.rgb TARGET.rgb MASK.u8 WIDTH HEIGHT OUT.rgb

Pictures are rows of 8-bit samples, all of one size; the masked part of the source is laid on the same place.
"""
import sys

import cv2
import numpy as np

source, target, mask, width, height, out = *sys.argv[1:4], *map(int, sys.argv[4:6]), sys.argv[6]
source = np.fromfile(source, np.uint8).reshape(height, width, 3)
target = np.fromfile(target, np.uint8).reshape(height, width, 3)
mask = np.fromfile(mask, np.uint8).reshape(height, width)
x, y, w, h = cv2.boundingRect(mask)
cv2.seamlessClone(source, target, mask, (x + w // 2, y + h // 2), cv2.NORMAL_CLONE).tofile(out)
