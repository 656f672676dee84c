package main

import (
	"encoding/json"
	"time"
)

// record has the browser tell what it sends and gets from now on.
func (b *browser) record() {
	b.t.Helper()
	b.call("Network.enable", map[string]any{"maxPostDataSize": 1 << 20})
	b.events = nil
}

// loaded is an entry of an HTTP Archive, as far as it is read.
type loaded struct {
	id       string
	Started  string `json:"startedDateTime"`
	Request  sent   `json:"request"`
	Response got    `json:"response"`
}

type sent struct {
	Method string         `json:"method"`
	URL    string         `json:"url"`
	Post   map[string]any `json:"postData,omitempty"`
}

type got struct {
	Status  int     `json:"status"`
	Content content `json:"content"`
}

type content struct {
	Kind string `json:"mimeType"`
	Text string `json:"text"`
}

// archive is what the browser recorded, as an HTTP Archive: the documents that it loaded, with the text of those that
// came with an error.
func (b *browser) archive() string {
	b.t.Helper()
	time.Sleep(100 * time.Millisecond) // the last answer is told after the page is there
	b.eval("1")
	var list []*loaded
	by := map[string]*loaded{}
	for _, e := range b.events {
		var p struct {
			RequestID        string
			Type             string
			WallTime         float64
			Request          struct{ URL, Method, PostData string }
			RedirectResponse *struct{ Status int }
			Response         struct {
				Status   int
				MimeType string
			}
		}
		if json.Unmarshal(e.Params, &p) != nil {
			continue
		}
		was := by[p.RequestID]
		switch {
		case e.Method == "Network.requestWillBeSent" && p.Type == "Document":
			if was != nil && p.RedirectResponse != nil {
				was.Response.Status = p.RedirectResponse.Status
			}
			x := &loaded{id: p.RequestID, Request: sent{Method: p.Request.Method, URL: p.Request.URL},
				Started: time.UnixMicro(int64(p.WallTime * 1e6)).UTC().Format(time.RFC3339Nano)}
			if p.Request.PostData != "" {
				x.Request.Post = map[string]any{"text": p.Request.PostData}
			}
			by[p.RequestID] = x
			list = append(list, x)
		case e.Method == "Network.responseReceived" && was != nil:
			was.Response = got{p.Response.Status, content{p.Response.MimeType, ""}}
		}
	}
	for _, x := range list {
		if by[x.id] != x || x.Response.Status < 400 {
			continue
		}
		var body struct{ Body string }
		if json.Unmarshal(b.call("Network.getResponseBody", map[string]any{"requestId": x.id}), &body) == nil {
			x.Response.Content.Text = body.Body
		}
	}
	doc, err := json.Marshal(map[string]any{"log": map[string]any{"version": "1.2", "entries": list}})
	if err != nil {
		b.t.Fatal(err)
	}
	return string(doc)
}
