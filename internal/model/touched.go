package model

// Touched are the records that entries of the journal put or took away.
type Touched struct {
	Seq int64 // the newest entry
	// Marks are the IDs of the records by kind; where a kind is about people, what Mark makes of an ID.
	Marks map[Kind]map[string]bool

	key string
}

// Any reports whether a record of one of the kinds was touched.
func (t *Touched) Any(kinds ...Kind) bool {
	for _, k := range kinds {
		if len(t.Marks[k]) > 0 {
			return true
		}
	}
	return false
}

// Mark is how the journal knows the record of a key: by its ID, or where it is about a person by a keyed hash of that.
func (t *Touched) Mark(k Key) string {
	if k.Kind.Personal() {
		return keyed(t.key, []byte(k.ID))
	}
	return k.ID
}

// Touched tells what the entries behind a number touched, so that whoever holds what stood there before need not read
// all of it again. What the journal does not have, such as what stages keep, is not among it. Errors: ErrBeforeRecords.
func (v View) Touched(after int64) (*Touched, error) {
	t := &Touched{Marks: map[Kind]map[string]bool{}}
	var err error
	if t.Seq, err = v.LastSeq(); err != nil || t.Seq <= after {
		return t, err
	}
	if t.key, err = v.Value(SettingPeople); err != nil {
		return nil, err
	}
	all, err := steps(v, after, nil)
	if err != nil {
		return nil, err
	}
	for k := range all {
		if t.Marks[k.Kind] == nil {
			t.Marks[k.Kind] = map[string]bool{}
		}
		t.Marks[k.Kind][k.ID] = true
	}
	return t, nil
}
