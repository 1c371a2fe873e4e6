package commission

import (
	"context"
	"slices"

	"redstart/internal/core/plan"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/store"
)

// leftBehind says why a run over some entries does not set one that hangs behind another; ""
// when it is set with that one.
func leftBehind(r plan.Resolver, e plan.Entry, entries []store.Entry) string {
	row, known := r.PartRow(e)
	switch {
	case e.Part == "":
		return "what " + e.Behind + " calls it is not known yet; read its card or label: redstart match cards"
	case !known || row.Setting == nil:
		return "nothing of it is set; it is verified through " + e.Behind
	case !slices.ContainsFunc(entries, func(o store.Entry) bool { return o.Tag == e.Behind }):
		return "it is set through " + e.Behind + ", which this run does not take"
	}
	return ""
}

// setWith lists the entries behind one whose rows are among what its device is given.
func setWith(r plan.Resolver, given procedure.Values, tag string) (list []plan.Entry) {
	for _, e := range r.PartsOf(tag) {
		part, known := r.PartRow(e)
		if !known || part.Setting == nil || e.NotWired {
			continue
		}
		rows, err := profile.ParseRows(given.Settings[part.Setting.Key])
		if err == nil && slices.ContainsFunc(rows, func(row profile.Row) bool { return holds(row, part.Row) }) {
			list = append(list, e)
		}
	}
	return list
}

// holds reports whether a row has all that another says.
func holds(row, other profile.Row) bool {
	for key, v := range other {
		if row[key] != v {
			return false
		}
	}
	return true
}

// partsConfigured moves the entries that were set with a device to configured.
func (w *work) partsConfigured(ctx context.Context, who string) error {
	if !slices.ContainsFunc(w.Plan.Entries, func(e plan.Entry) bool { return e.Behind == w.d.Tag }) {
		return nil
	}
	r := w.Plan.Resolve()
	for _, e := range setWith(r, w.d.Given, w.d.Tag) {
		given, _ := procedure.OfPart(r, e)
		if err := w.Records.SetConfigured(ctx, e.Tag, e.MAC, given, who); err != nil {
			return err
		}
	}
	return nil
}
