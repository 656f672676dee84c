package oidc

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
)

// objects are JSON of all sorts, and what is none.
func objects() []string {
	return []string{
		`{}`, ` { } `, "{\n\t\"a\" : 1 ,\r\n \"b\":[ ] }", `{"a":"b"}`,
		`{"a":{"b":{"c":[1,[2,{"d":null}]]}},"t":true,"f":false}`, `{"a":1,"a":2}`, `{"":""}`, `{"a":0}`, `{"a":-1}`,
		`{"a":-0}`, `{"a":01}`, `{"a":00}`, `{"a":1.5}`, `{"a":1e3}`, `{"a":1E400}`, `{"a":999999999999999}`,
		`{"a":9007199254740993}`, `{"a":123456789012345678901234567890}`, `{"a":"\u0041"}`, `{"a":"\ud834\udd1e"}`,
		`{"a":"\ud834"}`, `{"a":"\"q"}`, `{"a":"é"}`, "{\"a\":\"\xff\"}", "{\"a\":\"\x7f\"}", "{\"a\":\"\t\"}",
		"{\"a\":\"\x00\"}", `{"a":"b"`, `{"a":"b`, `{"a"`, `{"a":`, `{"a":}`, `{,}`, `{"a":1,}`, `{"a":[1,]}`,
		`{"a":[,1]}`, `{"a":[1 2]}`, `{"a" "b"}`, `{a:1}`, `{'a':1}`, `{"a":tru}`, `{"a":truex}`, `{"a":nul}`,
		`{"a":True}`, `{"a":1}{"b":2}`, `{"a":1} x`, "{\"a\":1}\x00", "\ufeff{}", `[]`, `"a"`, `1`, `null`, ``, ` `,
		`{"a":+1}`, `{"a":.5}`, `{"a":1.}`, `{"a":1x}`, "{\"a\":\v1}", `{"a":1/**/}`,
		strings.Repeat(`{"a":`, 30) + "1" + strings.Repeat("}", 30),
		`{"a":` + strings.Repeat("[", 9) + strings.Repeat("]", 9) + `}`,
		strings.Repeat(`{"a":`, 10001) + "1" + strings.Repeat("}", 10001),
	}
}

// sameObject holds object against encoding/json.
func sameObject(t *testing.T, b []byte) {
	t.Helper()
	var v any
	err := json.Unmarshal(b, &v)
	expected, is := v.(map[string]any)
	got, e := object(b)
	switch {
	case (e == nil) != (err == nil && is):
		t.Errorf("%.80q: %v, where encoding/json says %v", b, e, err)
	case e == nil && !reflect.DeepEqual(got, expected):
		t.Errorf("%.80q: %#v, where encoding/json says %#v", b, got, expected)
	}
}

func TestObject(t *testing.T) {
	for _, s := range objects() {
		sameObject(t, []byte(s))
	}
	// what stands in tokens is read without encoding/json: this holds the short way to being one
	p := simple{text: `{"iss":"https://login.kestrelridge.example","aud":["a","b"],"exp":1930467600,"amr":[],` +
		`"cnf":{"jkt":"x"},"ok":true}`}
	if v, ok := p.object(0); !ok || !p.done() || v["exp"] != 1930467600.0 {
		t.Errorf("%v %v", v, ok)
	}
}

func FuzzObject(f *testing.F) {
	for _, s := range objects() {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) { sameObject(t, b) })
}

// TestUnread: what is wrong with JSON is said in words that know nothing of Go.
func TestUnread(t *testing.T) {
	type inner struct {
		Names []string `json:"names"`
	}
	type outer struct {
		Text  string `json:"text"`
		Is    bool   `json:"is"`
		N     *int   `json:"n"`
		Inner inner  `json:"inner"`
	}
	for in, says := range map[string]string{
		`[]`:                      "it is a list, where an object belongs",
		`"a"`:                     "it is a text, where an object belongs",
		`{"text":1}`:              "text is a number, where a text belongs",
		`{"text":true}`:           "text is true or false, where a text belongs",
		`{"is":{}}`:               "is is an object, where true or false belongs",
		`{"n":1.5}`:               "n is a number, where a whole number belongs",
		`{"n":"1"}`:               "n is a text, where a whole number belongs",
		`{"inner":{"names":"a"}}`: "inner.names is a text, where a list belongs",
		`{`:                       "it is no JSON from byte 1 on",
		``:                        "it is empty, where JSON belongs",
		`{"text":"a",}`:           "it is no JSON from byte 13 on",
	} {
		err := ReadObject([]byte(in), &outer{})
		if err == nil || err.Error() != says {
			t.Errorf("%s: %v, not %s", in, err, says)
		}
	}
	if err := ReadObject([]byte(`{"Text":1,"more":[]}`), &outer{}); err != nil {
		t.Errorf("a member of another name: %v", err)
	}
}
