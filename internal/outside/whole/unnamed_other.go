//go:build !linux

package whole

import (
	"errors"
	"io/fs"
	"os"
)

func unnamed(string, fs.FileMode) (*os.File, error) { return nil, errors.ErrUnsupported }

func link(*os.File, string) error { return errors.ErrUnsupported }
