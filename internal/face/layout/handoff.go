package layout

import (
	"encoding/json"
	"fmt"
	"strings"

	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/handoff"
)

// Handoff lays out the values that one side has to enter, in the order in which it meets them.
func Handoff(h *handoff.Handoff) format.Page {
	role := "provider"
	if h.For == "provider" {
		role = "app"
	}
	head := fmt.Sprintf("Handoff of %s: what the %s needs of the %s %s", h.Trust, h.For, role, h.About)
	if h.Metadata == nil && h.For == "provider" {
		head = fmt.Sprintf("Handoff of %s: what the provider needs to register the client %s", h.Trust, h.About)
	}
	blocks := []format.Block{{Lines: []string{head}}}
	if h.Stage != "" {
		blocks[0].Lines[0] += ", on the stage at " + h.Stage
	}
	for _, r := range h.Remarks {
		blocks[0].Lines = append(blocks[0].Lines, "  "+r)
	}
	blocks[0].Lines = append(blocks[0].Lines, "")
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
		b := format.Block{Title: t, Head: []string{"Attribute", "Name in the message", "In metadata"}}
		for _, i := range h.Attributes {
			b.Rows = append(b.Rows, []string{i.Label, i.Value, i.Metadata})
		}
		blocks = append(blocks, b)
	}
	if len(h.Certificate) > 0 {
		blocks = append(blocks, format.Block{Title: "Certificate",
			Lines: strings.Split(strings.TrimSpace(string(h.Certificate)), "\n")})
	}
	if h.Example != nil {
		blocks = append(blocks, example(h.Example)...)
	}
	return format.Page{Data: Handed{h, string(h.Certificate), string(h.Metadata)}, Blocks: blocks}
}

// Handed is what is told of a handoff.
type Handed struct {
	*handoff.Handoff
	PEM string `json:"certificate,omitempty" rows:"none"`
	XML string `json:"metadataXML,omitempty" rows:"none"`
}

// example shows what an app will receive, and how it is checked.
func example(e *handoff.Example) []format.Block {
	claims, _ := json.MarshalIndent(e.Claims, "", "  ") // text and lists of text: it cannot fail
	subject := e.Subject
	if e.Format != "" {
		subject += ", " + saml.ShortName(e.Format)
	}
	got := format.Block{Title: "Example: what arrives for " + e.Person,
		Lines: []string{"Made by the stage, of what this trust says; the real provider was not asked. Signed with " +
			"keys of " +
			"the stage: nobody can sign in with it.", ""}}
	if e.Header != "" {
		got.Lines = append(got.Lines, "ID token, header", "  "+e.Header, "ID token, claims", "  "+e.Payload,
			"ID token, as it comes", "  "+e.Message)
	} else {
		got.Lines = append(got.Lines, "Response, laid out for reading; the signature holds for the file of --out alone")
		got.Lines = append(got.Lines, strings.Split(strings.TrimSpace(e.Laid), "\n")...)
	}
	got.Lines = append(got.Lines, "", "Subject", "  "+subject, "Claims, of all that arrived")
	got.Lines = append(got.Lines, strings.Split(string(claims), "\n")...)
	check := format.Block{Title: "What to check, in this order"}
	for i, v := range e.Recipe {
		check.Lines = append(check.Lines, fmt.Sprintf("  %d. %s  [%s]", i+1, v.What, v.By), "      "+v.Value)
	}
	return []format.Block{got, check}
}
