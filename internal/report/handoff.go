package report

import (
	"fmt"
	"strings"

	"tressik.example/internal/handoff"
	"tressik.example/internal/view"
)

// Handoff lays out the values that one side has to enter, in the order in which it meets them.
func Handoff(h *handoff.Handoff) view.Page {
	role := "provider"
	if h.For == "provider" {
		role = "app"
	}
	head := fmt.Sprintf("Handoff of %s: what the %s needs of the %s %s", h.Trust, h.For, role, h.About)
	if h.Metadata == nil && h.For == "provider" {
		head = fmt.Sprintf("Handoff of %s: what the provider needs to register the client %s", h.Trust, h.About)
	}
	blocks := []view.Block{{Lines: []string{head, ""}}}
	for _, i := range h.Items {
		from := i.From
		if i.Metadata != "" {
			from = i.Metadata + " | " + i.From
		}
		blocks[len(blocks)-1].Lines = append(blocks[len(blocks)-1].Lines, "  "+i.Label+"  ["+from+"]", "      "+i.Value)
	}
	if len(h.Attributes) > 0 {
		t := "Attributes that are sent"
		if h.For == "provider" {
			t = "Attributes that the app reads"
		}
		b := view.Block{Title: t, Head: []string{"Attribute", "Name in the message", "In metadata"}}
		for _, i := range h.Attributes {
			b.Rows = append(b.Rows, []string{i.Label, i.Value, i.Metadata})
		}
		blocks = append(blocks, b)
	}
	if len(h.Certificate) > 0 {
		blocks = append(blocks, view.Block{Title: "Certificate",
			Lines: strings.Split(strings.TrimSpace(string(h.Certificate)), "\n")})
	}
	data := struct {
		*handoff.Handoff
		PEM string `json:"certificate,omitempty"`
		XML string `json:"metadataXML,omitempty"`
	}{h, string(h.Certificate), string(h.Metadata)}
	return view.Page{Data: data, Blocks: blocks}
}
