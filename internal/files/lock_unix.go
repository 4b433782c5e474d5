//go:build unix

package files

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// lockFile locks a file for this process, or says that it is held.
func lockFile(f *os.File) error {
	err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) || errors.Is(err, unix.EINTR) {
		return errHeld
	}
	return err
}
