package bench

import (
	"os"
	"strconv"
	"testing"
)

func BenchmarkZZ(b *testing.B) {
	t, _ := strconv.Atoi(os.Getenv("ZT"))
	p, _ := strconv.Atoi(os.Getenv("ZP"))
	sized(b, os.Getenv("ZZ"), t, p)
}
