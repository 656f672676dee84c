package publish

import (
	"errors"

	"golang.org/x/sys/unix"
)

// swap exchanges two folders in one step.
func swap(a, b string) error {
	err := unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) { // a file system that cannot
		return swapInTurns(a, b)
	}
	return err
}
