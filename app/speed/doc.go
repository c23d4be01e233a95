// Package speed measures: each of the loops that take the time beside the same work by OpenCV, in one run, on one thread.
package speed
