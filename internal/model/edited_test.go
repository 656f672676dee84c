package model_test

import (
	"iter"

	"tressik.example/internal/model"
)

// edited is a Reader with another journal.
type edited struct {
	model.Reader
	list []model.Entry
	head string
}

func (e edited) Get(k model.Key) (model.Record, error) {
	if k.ID == model.SettingHead {
		return &model.Setting{Name: k.ID, Value: e.head}, nil
	}
	return e.Reader.Get(k)
}

func (e edited) Entries(model.Filter) iter.Seq2[model.Entry, error] {
	return func(yield func(model.Entry, error) bool) {
		for _, x := range e.list {
			if !yield(x, nil) {
				return
			}
		}
	}
}

// verifyEdited verifies a journal that was edited.
func verifyEdited(list []model.Entry, head string) (int, []model.Break, error) {
	return model.View{Reader: edited{model.Empty().Reader, list, head}}.VerifyJournal()
}
