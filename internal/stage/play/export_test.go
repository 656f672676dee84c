package play

import (
	"tressik.example/internal/model"
	"tressik.example/internal/stage/cast"
)

// Held is what a stage holds of the ledger.
type Held struct{ held }

func (h *Held) Read(v model.View) error    { return h.read(v) }
func (h *Held) ReadAll(v model.View) error { return h.readAll(v) }
func (h *Held) Ledger() *cast.Ledger       { return h.led }
func (h *Held) Seq() int64                 { return h.seq }
