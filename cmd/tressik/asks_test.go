package main

import "testing"

// TestWhatTakesFromEveryoneAsks: a command that takes something from everybody asks, and changes nothing where nobody
// can be asked; one that takes it from one person does not.
func TestWhatTakesFromEveryoneAsks(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.write("few.csv", "uid,mail\nmira,mira.solano@kestrelridge.example\n")
	d.ok("cutover", "frame-courier@ridge", "--way-back", "by hand", "--despite", "a drill", "--yes")
	entries := d.ok("journal", "verify")
	for _, c := range []struct {
		asks string
		args []string
	}{
		{"from everyone?", []string{"consent", "withdraw", "dome-scheduler@ridge", "--for", "everyone", "--actor",
			"aiyana"}},
		{"44 people who are not in few.csv", []string{"people", "load", "few.csv", "--replace"}},
		{"for everybody who signs in through it?", []string{"cutover", "frame-courier@ridge", "--pause"}},
	} {
		d.fails(2, []string{c.asks, "--yes"}, c.args...)
	}
	if now := d.ok("journal", "verify"); now != entries {
		t.Errorf("something was changed unasked:\n%s%s", entries, now)
	}
	d.ok("consent", "withdraw", "dome-scheduler@ridge", "--for", "mira", "--actor", "aiyana")
	d.ok("people", "load", "few.csv")
	d.ok("people", "load", "few.csv", "--replace", "--dry-run")
	d.ok("cutover", "frame-courier@ridge", "--pause", "--yes")
}
