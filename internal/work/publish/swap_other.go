//go:build !linux

package publish

func swap(a, b string) error { return swapInTurns(a, b) }
