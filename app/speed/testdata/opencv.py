"""Times the same work by OpenCV on one thread.

Usage: opencv.py FOLDER, then one name of a job on each line of standard input; the best time, in milliseconds, comes back on a line.
FOLDER holds picture.f32 (RGBA) and plane.f32, 1920 x 1080 samples as 32-bit floats, and next.f32, a plane like the other, moved.
"""
import sys
import time

import cv2
import numpy as np

cv2.setNumThreads(1)
W, H = 1920, 1080
folder = sys.argv[1]
picture = np.fromfile(folder + "/picture.f32", np.float32).reshape(H, W, 4)
plane = np.fromfile(folder + "/plane.f32", np.float32).reshape(H, W)
other = np.fromfile(folder + "/next.f32", np.float32).reshape(H, W)
M = np.array([[1.01, 0.02, 3.3], [-0.02, 1.01, 2.2], [1e-5, 1e-5, 1]])
FLAGS = cv2.WARP_INVERSE_MAP
out4 = np.empty_like(picture)


def broad(m, sigma):
    k = int(sigma / 1.5)
    h, w = m.shape[:2]
    small = cv2.resize(m, (w // k, h // k), interpolation=cv2.INTER_AREA)
    small = cv2.GaussianBlur(small, (0, 0), (sigma * sigma - k * k / 4) ** 0.5 / k)
    return cv2.resize(small, (w, h), interpolation=cv2.INTER_LINEAR)


ys, xs = np.mgrid[0:H + 8:8, 0:W + 8:8].astype(np.float32)
lattice = np.dstack([xs + 3 * np.sin(ys / 90) + 2.2, ys + 3 * np.cos(xs / 120) + 1.4])


def by_lattice():
    full = cv2.resize(lattice, (lattice.shape[1] * 8, lattice.shape[0] * 8), interpolation=cv2.INTER_LINEAR)[:H, :W]
    cv2.remap(picture, full, None, cv2.INTER_CUBIC)


def over():
    rest = cv2.subtract(1, picture[:, :, 3])
    np.multiply(out4, rest[:, :, None], out=out4)
    cv2.add(out4, picture, dst=out4)


def gradients():
    cv2.Sobel(plane, cv2.CV_32F, 1, 0, ksize=1, scale=0.5, borderType=cv2.BORDER_REPLICATE)
    cv2.Sobel(plane, cv2.CV_32F, 0, 1, ksize=1, scale=0.5, borderType=cv2.BORDER_REPLICATE)


region = (660, 340, 600, 400)


def ecc():
    x, y, w, h = region
    mask = np.zeros((H, W), np.uint8)
    mask[y:y + h, x:x + w] = 255
    warp = np.eye(3, dtype=np.float32)
    cv2.findTransformECC(plane[y:y + h, x:x + w], other, shifted(x, y), cv2.MOTION_HOMOGRAPHY,
                         (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 50, 1e-5), None, 5)
    return warp


def shifted(x, y):
    return np.array([[1, 0, x], [0, 1, y], [0, 0, 1]], np.float32)


eight = lambda p: np.clip(p * 255, 0, 255).astype(np.uint8)
plane8, other8 = eight(plane), eight(other)
points = np.dstack(np.meshgrid(np.linspace(300, 1600, 20), np.linspace(200, 850, 10))).reshape(-1, 1, 2).astype(np.float32)


def flow():
    cv2.calcOpticalFlowPyrLK(plane8, other8, points, None, winSize=(15, 15), maxLevel=4)


colour8 = eight(np.ascontiguousarray(picture[:, :, :3]))
colour16 = colour8.astype(np.uint16)
codes = np.arange(256) / 255.0
decode = np.where(codes <= 0.04045, codes / 12.92, ((codes + 0.055) / 1.055) ** 2.4).astype(np.float32)
levels = np.linspace(0, 1, 65536)
encode = np.clip(np.where(levels <= 0.0031308, 12.92 * levels, 1.055 * levels ** (1 / 2.4) - 0.055) * 255 + 0.5, 0, 255).astype(np.uint8)


def to_codes():
    light = cv2.cvtColor(picture, cv2.COLOR_RGBA2RGB)
    encode[np.clip(light * 65535, 0, 65535).astype(np.uint16)]


colour = np.ascontiguousarray(picture[:, :, :3])
halves = colour.astype(np.float16)


def by_curve():
    light = np.where(colour <= 0.04045, colour / np.float32(12.92), ((colour + np.float32(0.055)) / np.float32(1.055)) ** np.float32(2.4))
    return cv2.cvtColor(light, cv2.COLOR_RGB2RGBA)


angles = 2 * np.pi * np.arange(200) / 200
radii = 400 + 60 * np.sin(np.arange(200))
outline = np.round(256 * np.stack([959.5 + radii * np.cos(angles), 539.5 + radii * np.sin(angles)], 1)).astype(np.int32)


def coverage():
    cv2.fillPoly(np.zeros((H, W), np.uint8), [outline], 255, cv2.LINE_AA, 8)


inverse_search = cv2.DISOpticalFlow_create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)


def bends():
    x, y, w, h = region
    part = np.s_[y - 16:y + h + 16, x - 16:x + w + 16]
    inverse_search.calc(np.ascontiguousarray(plane8[part]), np.ascontiguousarray(other8[part]), None)


small = np.sqrt(np.clip(np.ascontiguousarray(picture[:540, :960, :3]), 0, None))

JOBS = {
    "bytes to words": lambda: colour8.astype(np.uint16),
    "words to bytes": lambda: colour16.astype(np.uint8),
    "codes to light, RGBA": lambda: cv2.cvtColor(cv2.LUT(colour8, np.dstack([decode] * 3)), cv2.COLOR_RGB2RGBA),
    "light to codes": to_codes,
    "half floats to light, RGBA": lambda: cv2.cvtColor(halves.astype(np.float32), cv2.COLOR_RGB2RGBA),
    "light to half floats": lambda: cv2.cvtColor(picture, cv2.COLOR_RGBA2RGB).astype(np.float16),
    "floats to light by a curve": by_curve,
    "coverage, 200 corners": coverage,
    "what bends, 600 x 400 (DIS)": bends,
    "smoothing of 7 x 7, 960 x 540": lambda: cv2.bilateralFilter(small, 7, 0.05, 1.5),
    "warp RGBA, bicubic": lambda: cv2.warpPerspective(picture, M, (W, H), flags=FLAGS | cv2.INTER_CUBIC),
    "warp RGBA by a lattice": by_lattice,
    "warp plane, bicubic": lambda: cv2.warpPerspective(plane, M, (W, H), flags=FLAGS | cv2.INTER_CUBIC),
    "warp plane, bilinear": lambda: cv2.warpPerspective(plane, M, (W, H), flags=FLAGS | cv2.INTER_LINEAR),
    "Gaussian 2, RGBA": lambda: cv2.GaussianBlur(picture, (17, 17), 2, borderType=cv2.BORDER_REPLICATE),
    "Gaussian 5, RGBA": lambda: cv2.GaussianBlur(picture, (41, 41), 5, borderType=cv2.BORDER_REPLICATE),
    "Gaussian 2, plane": lambda: cv2.GaussianBlur(plane, (17, 17), 2, borderType=cv2.BORDER_REPLICATE),
    "wide blur 20, RGBA": lambda: broad(picture, 20),
    "wide blur 20, plane": lambda: broad(plane, 20),
    "half a plane": lambda: cv2.pyrDown(plane),
    "gradients": gradients,
    "over": over,
    "a plane's step, 600 x 400": ecc,
    "200 points, 15 x 15": flow,
}

for line in sys.stdin:
    job = JOBS[line.strip()]
    job()
    best, spent = 1e9, 0.0
    while spent < 0.35:
        began = time.perf_counter()
        job()
        took = time.perf_counter() - began
        best, spent = min(best, took), spent + took
    print(best * 1000, flush=True)
