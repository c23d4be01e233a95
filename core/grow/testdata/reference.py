# The reference: OpenCV's inpainting, by Navier-Stokes and by Telea, and of its extra modules by shift maps if they are there.
import sys
import cv2
import numpy as np

picture, hole, out = sys.argv[1:4]
m = cv2.imread(picture)
k = cv2.imread(hole, cv2.IMREAD_GRAYSCALE)
for name, how in (("ns", cv2.INPAINT_NS), ("telea", cv2.INPAINT_TELEA)):
    cv2.imwrite(out + name + ".png", cv2.inpaint(m, k, 5, how))
if hasattr(cv2, "xphoto"):
    lab = cv2.cvtColor(m, cv2.COLOR_BGR2Lab)
    made = np.zeros_like(lab)
    cv2.xphoto.inpaint(lab, 255 - k, made, cv2.xphoto.INPAINT_SHIFTMAP)
    cv2.imwrite(out + "shiftmap.png", cv2.cvtColor(made, cv2.COLOR_Lab2BGR))
