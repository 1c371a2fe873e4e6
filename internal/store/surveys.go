package store

import (
	"context"
	"encoding/json"

	"redstart/internal/core/device"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// Survey is one survey with what it saw and what that changed.
type Survey struct {
	ID       int64           `json:"id"`
	Began    stamp.Time      `json:"began"`
	Ended    stamp.Time      `json:"ended"`
	Who      string          `json:"who"`
	Pace     int             `json:"pace"` // frames per second
	State    string          `json:"state"`
	Found    int             `json:"found"`
	Believed int             `json:"believed"` // how many there are, as it judged
	Passes   []int           `json:"passes"`   // heard in each pass
	Changes  []device.Change `json:"changes"`  // since the survey before
	Capture  string          `json:"capture"`  // file name of its packet capture; "" for none
	Seen     []device.Seen   `json:"-"`
}

type surveyRow struct {
	ID, Pace                       int64
	Began, Ended                   stamp.Time
	Who, State, Doc, Seen, Capture string
}

// AddSurvey keeps a survey and gives its number.
func (s *Site) AddSurvey(ctx context.Context, v Survey) (id int64, err error) {
	doc, err := json.Marshal(v)
	if err != nil {
		return 0, err
	}
	seen, err := json.Marshal(v.Seen)
	if err != nil {
		return 0, err
	}
	err = s.in.exec(ctx,
		`INSERT INTO surveys (site, began, ended, who, pace, state, doc, seen, capture)
			VALUES (:site, :began, :ended, :who, :pace, :state, :doc, :seen, :capture)`,
		map[string]any{"site": s.ID, "began": v.Began, "ended": v.Ended, "who": v.Who, "pace": v.Pace, "state": v.State,
			"doc": string(doc), "seen": string(seen), "capture": v.Capture})
	if err != nil {
		return 0, err
	}
	_, err = s.in.one(ctx, &id, `SELECT MAX(id) FROM surveys WHERE site = ?`, s.ID)
	return id, err
}

// Surveys lists the latest surveys, latest first, without what each saw.
func (s *Site) Surveys(ctx context.Context, most int) ([]Survey, error) {
	var rows []surveyRow
	if err := s.in.all(ctx, &rows,
		`SELECT id, began, ended, who, pace, state, doc, '[]' AS seen, capture FROM surveys
			WHERE site = ?
			ORDER BY id DESC LIMIT ?`, s.ID, most); err != nil {
		return nil, err
	}
	list := make([]Survey, len(rows))
	for i, r := range rows {
		var err error
		if list[i], err = r.survey(); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// LastSurvey gives the latest survey that ended by itself, with what it saw; ok
// is false before the first.
func (s *Site) LastSurvey(ctx context.Context) (v Survey, ok bool, err error) {
	var r surveyRow
	ok, err = s.in.one(ctx, &r,
		`SELECT id, began, ended, who, pace, state, doc, seen, capture FROM surveys
			WHERE site = ? AND state = ?
			ORDER BY id DESC LIMIT 1`, s.ID, state.Done)
	if !ok || err != nil {
		return v, false, err
	}
	v, err = r.survey()
	return v, true, err
}

func (r surveyRow) survey() (Survey, error) {
	var v Survey
	if err := json.Unmarshal([]byte(r.Doc), &v); err != nil {
		return v, err
	}
	v.ID, v.Began, v.Ended, v.Who, v.Pace, v.State, v.Capture = r.ID, r.Began, r.Ended, r.Who, int(r.Pace), r.State, r.Capture
	err := json.Unmarshal([]byte(r.Seen), &v.Seen)
	return v, err
}

// LastBegan tells when the latest survey that ended by itself began; the zero
// value before the first.
func (s *Site) LastBegan(ctx context.Context) (at stamp.Time, err error) {
	_, err = s.in.one(ctx, &at, `SELECT began FROM surveys WHERE site = ? AND state = ? ORDER BY id DESC LIMIT 1`, s.ID,
		state.Done)
	return at, err
}
