package whole

import (
	"errors"
	"fmt"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// unnamed makes a file without a name, which goes with the process (open(2), O_TMPFILE). Error: errors.ErrUnsupported
// where the file system, or a system without /proc, has none.
func unnamed(dir string, mode fs.FileMode) (*os.File, error) {
	fd, err := unix.Open(dir, unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, uint32(mode.Perm()))
	switch {
	case errors.Is(err, unix.EOPNOTSUPP), errors.Is(err, unix.EISDIR), errors.Is(err, unix.EINVAL):
		return nil, errors.ErrUnsupported
	case err != nil:
		return nil, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	f := os.NewFile(uintptr(fd), dir)
	if _, err := os.Lstat(opened(f)); err != nil {
		f.Close()
		return nil, errors.ErrUnsupported
	}
	return f, nil
}

func opened(f *os.File) string { return fmt.Sprintf("/proc/self/fd/%d", f.Fd()) }

// link gives a file without a name one. Error: fs.ErrExist.
func link(f *os.File, path string) error {
	if err := unix.Linkat(unix.AT_FDCWD, opened(f), unix.AT_FDCWD, path, unix.AT_SYMLINK_FOLLOW); err != nil {
		return &fs.PathError{Op: "link", Path: path, Err: err}
	}
	return nil
}
