# The reference: OpenCV's inpainting by Telea's method.
import sys
import cv2

picture, hole, out = sys.argv[1:4]
m = cv2.imread(picture)
k = cv2.imread(hole, cv2.IMREAD_GRAYSCALE)
cv2.imwrite(out, cv2.inpaint(m, k, 5, cv2.INPAINT_TELEA))
