package files

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// lockFile locks a file for this process, or says that it is held. The bytes that are
// locked lie after all content, so that others can read who holds it.
func lockFile(f *os.File) error {
	at := &windows.Overlapped{OffsetHigh: 1}
	err := windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY,
		0, 1, 0, at)
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
		return errHeld
	}
	return err
}
