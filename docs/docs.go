// Package docs holds the documents that whoever has the program alone needs too.
package docs

import "embed"

// Files are the documents, in Markdown: guide.md, concepts.md and so on.
//
//go:embed guide.md concepts.md operate.md ledger.md automate.md findings.md conformance.md threat-model.md
var Files embed.FS
