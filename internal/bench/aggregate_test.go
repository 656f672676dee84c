package bench

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"testing"
	"time"

	"tressik.example/internal/core/saml"
	"tressik.example/internal/testkit/peer"
)

// BenchmarkAggregate verifies a signed aggregate, RSA-2048 over its root, as a whole process, beside xmlsec1 on the
// same file, and searches it by an index.
func BenchmarkAggregate(b *testing.B) {
	for _, n := range []int{1000, 10000, 50000} {
		b.Run(strconv.Itoa(n), func(b *testing.B) { benchAggregate(b, n) })
	}
}

func benchAggregate(b *testing.B, n int) {
	xmlsec1 := peer.Need(b, "xmlsec1")
	dir := b.TempDir()
	build := func(out, pkg string) string {
		at := filepath.Join(dir, out)
		c := exec.Command("go", "build", "-ldflags", "-s -w", "-o", at, pkg)
		c.Env = append(os.Environ(), "CGO_ENABLED=0")
		if o, err := c.CombinedOutput(); err != nil {
			b.Fatalf("%v\n%s", err, o)
		}
		return at
	}
	tressik, maker := build("tressik", "tressik.example/cmd/tressik"), build("maker",
		"tressik.example/internal/testkit/fixture/aggregate")
	file := filepath.Join(dir, "federation.xml")
	cert := file + ".signer.pem"
	if o, err := exec.Command(maker, "-n", strconv.Itoa(n), "-out", file).CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, o)
	}
	times, memory := map[string][]time.Duration{}, map[string][]int64{}
	run := func(name string, args ...string) {
		c := exec.Command(args[0], args[1:]...)
		c.Env = []string{"HOME=" + dir}
		start := time.Now()
		if o, err := c.CombinedOutput(); err != nil {
			b.Fatalf("%v\n%s", err, o)
		}
		times[name] = append(times[name], time.Since(start))
		if u, ok := c.ProcessState.SysUsage().(*syscall.Rusage); ok {
			memory[name] = append(memory[name], u.Maxrss)
		}
	}
	run("index", tressik, "metadata", "find", file, "app-00043.example")
	for b.Loop() {
		run("verify", tressik, "metadata", "verify", file, "--signed-by", cert)
		run("xmlsec1", xmlsec1, "--verify", "--enabled-key-data", "x509", "--trusted-pem", cert,
			"--id-attr:ID", saml.NSMetadata+":EntitiesDescriptor", file)
		run("find", tressik, "metadata", "find", file, "app-00043.example")
		run("version", tressik, "version")
	}
	ms := func(name string) float64 {
		slices.Sort(times[name])
		return times[name][len(times[name])/2].Seconds() * 1000
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(ms("verify")/ms("xmlsec1"), "x-xmlsec1")
	b.ReportMetric(ms("verify"), "ms-verify")
	b.ReportMetric(ms("xmlsec1"), "ms-xmlsec1")
	b.ReportMetric(float64(slices.Max(memory["verify"]))/1024, "MB-verify")
	b.ReportMetric(float64(slices.Max(memory["xmlsec1"]))/1024, "MB-xmlsec1")
	b.ReportMetric(ms("find"), "ms-find")
	b.ReportMetric(ms("version"), "ms-version")
}
