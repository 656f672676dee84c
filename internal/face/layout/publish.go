package layout

import (
	"strings"
	"time"

	"tressik.example/internal/face/format"
	"tressik.example/internal/work/publish"
)

// Published is what was written for a web server.
func Published(dir string, s *publish.Site) format.Page {
	b := format.Block{Head: []string{"File", "What", "Of", "May be kept"}, Noun: "file"}
	for _, f := range s.Files {
		kept := ""
		if f.MaxAge > 0 {
			kept = strings.TrimSuffix(strings.TrimSuffix((time.Duration(f.MaxAge)*time.Second).String(), "0s"), "0m")
		}
		b.Rows = append(b.Rows, []string{f.Path, f.What, f.Party, kept})
	}
	return format.Page{Data: s.Files, Blocks: []format.Block{{Lines: []string{"published into " + dir}}, b,
		{Lines: []string{"  " + dir + "/index.html is a page for whoever asks; docs/operate.md says how a web server " +
			"serves the rest"}}}}
}
