package picture

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"sync"
)

// Computation names the program that computes: what outlives it, paint on disk and pictures
// that browsers keep, is kept under this name, so that no other program's pixels are shown.
// It is the hash of the program's own file: nobody has to think of changing it.
var Computation = sync.OnceValue(func() string {
	path, err := os.Executable()
	if err != nil {
		return Version()
	}
	in, err := os.Open(path)
	if err != nil {
		return Version()
	}
	defer in.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, in); err != nil {
		return Version()
	}
	return hex.EncodeToString(sum.Sum(nil)[:8])
})
