// Package packaging holds that what is released is what it says: see scripts/dist.
package packaging

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/testkit/peer"
)

// dist makes what is released for this system, in a folder.
func dist(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "dist")
	c := exec.Command("../scripts/dist", runtime.GOOS+"/"+runtime.GOARCH)
	c.Env = append(os.Environ(), "DIST="+dir)
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return dir
}

// TestReleaseIsReproducible makes it twice: each file is the same, and its sum is the one that is told.
func TestReleaseIsReproducible(t *testing.T) {
	peer.Need(t, "dpkg")
	one, two := dist(t), dist(t)
	sums, err := os.ReadFile(filepath.Join(one, "SHA256SUMS"))
	if err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(one, "*"))
	if err != nil || len(files) != 4 {
		t.Fatalf("%v, %v", files, err)
	}
	for _, f := range files {
		a, err1 := os.ReadFile(f)
		b, err2 := os.ReadFile(filepath.Join(two, filepath.Base(f)))
		if err1 != nil || err2 != nil || !bytes.Equal(a, b) {
			t.Errorf("%s is another one the second time: %v %v", filepath.Base(f), err1, err2)
		}
		if sum := sha256.Sum256(a); filepath.Base(f) != "SHA256SUMS" &&
			!strings.Contains(string(sums), hex.EncodeToString(sum[:])+"  "+filepath.Base(f)+"\n") {
			t.Errorf("the sum of %s is not told", filepath.Base(f))
		}
	}
	list, _ := filepath.Glob(filepath.Join(one, "*.cdx.json"))
	var bom struct {
		BomFormat  string
		Components []struct{ Name, Version string }
	}
	b, err := os.ReadFile(list[0])
	if err == nil {
		err = json.Unmarshal(b, &bom)
	}
	if err != nil || bom.BomFormat != "CycloneDX" || len(bom.Components) < 20 {
		t.Errorf("the list of what is in it: %v, %+v", err, bom)
	}
	for _, c := range bom.Components {
		if c.Name == "" || c.Version == "" {
			t.Errorf("a component without a name or a version: %+v", c)
		}
	}
	installs(t, one)
	unpacks(t, one)
}

// installs installs the Debian package into a folder of its own, runs the program there, and removes it again.
func installs(t *testing.T, dir string) {
	t.Helper()
	debs, _ := filepath.Glob(filepath.Join(dir, "*.deb"))
	root := t.TempDir()
	for _, d := range []string{"var/lib/dpkg/info", "var/lib/dpkg/updates", "var/lib/dpkg/triggers"} {
		if err := os.MkdirAll(filepath.Join(root, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	dpkg := func(args ...string) {
		t.Helper()
		c := exec.Command("dpkg", append([]string{"--root=" + root, "--force-not-root", "--force-script-chrootless",
			"--log=/dev/null"}, args...)...)
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("dpkg %v: %v\n%s", args, err, out)
		}
	}
	dpkg("-i", debs[0])
	bin := filepath.Join(root, "usr/bin/tressik")
	here := t.TempDir()
	for _, args := range [][]string{{"version"}, {"init", "--org", "Kestrel Ridge Observatory"}, {"docs", "guide"},
		{"check"}} {
		c := exec.Command(bin, args...)
		c.Dir, c.Env = here, []string{"HOME=" + here}
		if out, err := c.CombinedOutput(); err != nil || len(out) == 0 {
			t.Errorf("tressik %v: %v\n%s", args, err, out)
		}
	}
	for _, f := range []string{"usr/share/man/man1/tressik-trust-show.1.gz", "lib/systemd/system/tressik-due.timer",
		"usr/share/bash-completion/completions/tressik", "usr/share/zsh/vendor-completions/_tressik",
		"usr/share/fish/vendor_completions.d/tressik.fish", "usr/share/doc/tressik/guide.md",
		"usr/share/doc/tressik/copyright", "usr/share/doc/tressik/schema/trust-show.schema.json"} {
		if fi, err := os.Stat(filepath.Join(root, f)); err != nil || fi.Size() == 0 {
			t.Errorf("%s: %v", f, err)
		}
	}
	units, _ := filepath.Glob(filepath.Join(root, "lib/systemd/system/*.service"))
	for _, u := range units { // each runs what is installed, by a name that is a command
		b, err := os.ReadFile(u)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range strings.Split(string(b), "\n") {
			line, is := strings.CutPrefix(l, "ExecStart=")
			if words := strings.Fields(strings.TrimPrefix(line, "-")); is {
				if _, err := os.Stat(filepath.Join(root, words[0])); err != nil {
					t.Errorf("%s runs %s", u, words[0])
				}
				if out, err := exec.Command(bin, append(words[1:], "--help")...).CombinedOutput(); err != nil {
					t.Errorf("%s: %s\n%s", u, l, out)
				}
			}
		}
	}
	dpkg("-r", "tressik")
	left := []string{}
	filepath.WalkDir(root, func(path string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() && !strings.Contains(path, "/var/lib/dpkg") {
			left = append(left, path)
		}
		return err
	})
	if len(left) > 0 {
		t.Errorf("what is left when it is removed: %v", left)
	}
}

// unpacks looks at the tarball: the program in it runs, and all files belong to nobody in particular.
func unpacks(t *testing.T, dir string) {
	t.Helper()
	list, _ := filepath.Glob(filepath.Join(dir, "*.tar.gz"))
	to := t.TempDir()
	if out, err := exec.Command("tar", "-C", to, "-xzf", list[0]).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	in := filepath.Join(to, strings.TrimSuffix(filepath.Base(list[0]), ".tar.gz"))
	out, err := exec.Command(filepath.Join(in, "tressik"), "--version").CombinedOutput()
	if err != nil || !strings.Contains(string(out), "tressik 0.") {
		t.Errorf("%v: %s", err, out)
	}
	var names []string
	entries, err := os.ReadDir(in)
	for _, e := range entries {
		names = append(names, e.Name())
	}
	if err != nil || !slices.Equal(names, []string{"CHANGELOG.md", "LICENSE", "README.md", "SECURITY.md",
		"completions", "docs", "man",
		"schema", "systemd", "tressik"}) {
		t.Errorf("%v %v", names, err)
	}
}
