package command

import (
	"path/filepath"
	"time"

	"github.com/schollz/progressbar/v3"
)

// The sizes from which a bar shows on a terminal how far something has come: bytes of a document that is read, and
// records of a change that is written.
const (
	worthABar       = 16 << 20
	worthABarToKeep = 10_000
)

// progress shows how far the reading of a large document has come.
func (a *App) progress(d *document) {
	if d.Size < worthABar || !a.terminal(a.Err) {
		return
	}
	d.bar = a.newBar(d.Size, "reading "+filepath.Base(d.Name), true)
	d.how.Progress = func(read, _ int64) { _ = d.bar.Set64(read) } // what cannot be shown is no reason to stop
}

// writing shows how far the writing of a large change has come; nil where nothing is shown.
func (a *App) writing(records int) func(written int) {
	if records < worthABarToKeep || a.quiet || !a.terminal(a.Err) {
		return nil
	}
	bar := a.newBar(int64(records), "writing", false)
	return func(written int) {
		if written+256 >= records { // the last time that it is told
			_ = bar.Finish()
			return
		}
		_ = bar.Set(written)
	}
}

func (a *App) newBar(of int64, what string, inBytes bool) *progressbar.ProgressBar {
	return progressbar.NewOptions64(of, progressbar.OptionSetWriter(a.Err), progressbar.OptionShowBytes(inBytes),
		progressbar.OptionSetDescription(what), progressbar.OptionClearOnFinish(),
		progressbar.OptionThrottle(100*time.Millisecond))
}
