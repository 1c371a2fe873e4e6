package plan

// Comparison is how one list of entries became another.
type Comparison struct {
	Added   []Entry  `json:"added"`
	Changed []Change `json:"changed"` // field by field
	Removed []Entry  `json:"removed"`
}

// Compare compares two lists of entries by tag.
func Compare(before, after []Entry) Comparison {
	c := Comparison{Added: []Entry{}, Changed: []Change{}, Removed: []Entry{}}
	old := map[string]Entry{}
	for _, e := range before {
		old[e.Tag] = e
	}
	for _, e := range after {
		was, there := old[e.Tag]
		if !there {
			c.Added = append(c.Added, e)
			continue
		}
		c.Changed = append(c.Changed, Differences(was, e)...)
		delete(old, e.Tag)
	}
	for _, e := range before {
		if _, gone := old[e.Tag]; gone {
			c.Removed = append(c.Removed, e)
		}
	}
	return c
}

// ComparePairs compares entries that are known to be the same ones: one whose tag
// changed was renamed.
func ComparePairs(pairs []Pair) Comparison {
	c := Comparison{Added: []Entry{}, Changed: []Change{}, Removed: []Entry{}}
	for _, x := range pairs {
		switch {
		case x.Before == nil:
			c.Added = append(c.Added, *x.After)
		case x.After == nil:
			c.Removed = append(c.Removed, *x.Before)
		default:
			c.Changed = append(c.Changed, Differences(*x.Before, *x.After)...)
		}
	}
	return c
}

// Empty reports whether nothing differs.
func (c Comparison) Empty() bool {
	return len(c.Added)+len(c.Changed)+len(c.Removed) == 0
}

// Entries counts the entries that changed.
func (c Comparison) Entries() int {
	tags := map[string]bool{}
	for _, x := range c.Changed {
		tags[x.Tag] = true
	}
	return len(tags)
}
