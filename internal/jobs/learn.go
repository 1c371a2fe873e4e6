package jobs

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
	"redstart/internal/shield"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// LearnCredentials takes in known logins of devices that are set already, from
// CSV with the columns tag or mac, user and password, all or none. Of a file that was handed
// over, those are taken that are not superseded.
func (s *Site) LearnCredentials(ctx context.Context, content []byte, who string) (api.Learned, error) {
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return api.Learned{}, err
	}
	boxes, tags := map[string]address.MAC{}, map[string]bool{}
	for _, e := range entries {
		tags[e.Tag] = true
		if boxes[e.Tag] = e.Device; e.Device.IsZero() {
			boxes[e.Tag] = e.MAC
		}
	}
	known, cells, err := readCredentials(content, boxes, tags)
	if err != nil {
		return api.Learned{}, err
	}
	if len(cells) > 0 {
		e := problem.New(problem.Usage, "the logins were refused whole; none was stored",
			"mend the rows and give the file again").About("credentials")
		e.Cells = cells
		return api.Learned{}, e
	}
	if err := s.all.Plans.Unlocked(); err != nil {
		return api.Learned{}, err
	}
	p, _, err := s.plan.Bare(ctx)
	if err != nil {
		return api.Learned{}, err
	}
	tried := s.tryLogins(ctx, p, entries, known)
	if ctx.Err() != nil {
		return api.Learned{}, ctx.Err()
	}
	out := api.Learned{Stored: len(known), Untried: []string{}}
	var list []vault.New
	for i, k := range known {
		n := vault.New{MAC: k.mac, Login: k.login, Origin: "learned from " + who, State: state.Pending,
			ToldBy: "not tried: " + tried[i].why}
		what := "known login stored, not tried: " + tried[i].why
		switch {
		case tried[i].refused:
			cells = append(cells, problem.Cell{Row: k.row, Column: "password", Reason: "its device refuses this login"})
		case tried[i].accepted:
			out.Accepted++
			n.State, n.ToldBy, what = state.Accepted, "learned by "+who, "known login stored; its device accepts it"
		default:
			out.Untried = append(out.Untried, cmp.Or(k.tag, k.mac.String())+": "+tried[i].why)
		}
		if k.tag != "" {
			n.Note = store.CredentialNote{Site: s.store.ID, Tag: k.tag, Who: who, What: what}
		}
		list = append(list, n)
	}
	if len(cells) > 0 {
		e := problem.New(problem.Usage, "the logins were refused whole; none was stored",
			"mend the rows and give the file again").About("credentials")
		e.Cells = cells
		return api.Learned{}, e
	}
	return out, s.all.Vault.Put(ctx, list...)
}

// attempt is what became of one login that was tried.
type attempt struct {
	accepted, refused bool
	why               string // nobody tried
}

// learnSideBySide is how many devices are tried at the same time, and learnTime how
// long one may take.
const (
	learnSideBySide = 50
	learnTime       = 20 * time.Second
)

// tryLogins tries each login at its device, where that can be reached.
func (s *Site) tryLogins(ctx context.Context, p plan.Plan, entries []store.Entry, known []knownLogin) []attempt {
	tags := map[address.MAC]string{}
	for _, e := range entries {
		if !e.Device.IsZero() {
			tags[e.Device] = e.Profile
		}
	}
	out := make([]attempt, len(known))
	slots := make(chan struct{}, learnSideBySide)
	var all sync.WaitGroup
	for i, k := range known {
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer all.Done()
			defer func() { <-slots }()
			err := shield.Do(s.all.Log, k.mac.String(), func() error {
				out[i] = s.tryLogin(ctx, p, tags[k.mac], k)
				return nil
			})
			if err != nil {
				out[i] = attempt{why: err.Error()}
			}
		}()
	}
	all.Wait()
	return out
}

func (s *Site) tryLogin(ctx context.Context, p plan.Plan, id string, k knownLogin) attempt {
	if err := s.segment.May(true); err != nil {
		return attempt{why: "the service is on no segment that it may set something on"}
	}
	f, err := s.store.Device(ctx, k.mac)
	if err != nil {
		return attempt{why: err.Error()}
	}
	q := p.Profiles[cmp.Or(id, f.Profile)]
	at := f.AddressNow()
	switch {
	case q == nil || len(q.Acts[profile.SignIn]) == 0:
		return attempt{why: "its profile does not say how to sign in"}
	case !at.IsValid():
		return attempt{why: "its address is not known"}
	}
	ctx, cancel := context.WithTimeout(ctx, learnTime)
	defer cancel()
	if here, err := s.segment.Bench().Holds(ctx, bench.Peer{MAC: k.mac, Address: at, Avoid: p.Needs()}); err != nil || !here {
		return attempt{why: "it does not answer at " + at.String()}
	}
	tries := s.all.Vault.Try(k.mac, q.Accounts, "learned")
	if err := tries.May(ctx, k.login); err != nil {
		return attempt{why: err.Error()}
	}
	talk := driver.New(s.segment.Bench(), driver.Target{MAC: k.mac, Address: at,
		Bits: max(0, p.Site.SubnetOf(at).Prefix.Bits()), Profile: q, Avoid: p.Needs()})
	defer talk.Close()
	switch err := talk.SignIn(ctx, k.login); {
	case err == nil:
		_ = tries.Accepted(ctx, vault.Login{}) // the count of wrong logins is a courtesy
		return attempt{accepted: true}
	case errors.Is(err, driver.ErrLogin):
		_ = tries.Refused(ctx, vault.Login{})
		return attempt{refused: true}
	default:
		return attempt{why: "it does not answer"}
	}
}

type knownLogin struct {
	row   int
	tag   string
	mac   address.MAC
	login profile.Login
}

// readCredentials reads a file of logins. No complaint repeats a password.
func readCredentials(content []byte, boxes map[string]address.MAC, tags map[string]bool) ([]knownLogin, []problem.Cell,
	error) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(content, []byte("\ufeff"))))
	header, err := r.Read()
	at := map[string]int{"tag": -1, "mac": -1, "user": -1, "password": -1, "state": -1, "setting": -1}
	for i, h := range header {
		at[strings.ToLower(strings.TrimSpace(h))] = i
	}
	if err != nil || at["password"] < 0 || at["user"] < 0 || at["tag"] < 0 && at["mac"] < 0 {
		return nil, nil, problem.New(problem.Usage, "the file needs the columns user, password, and tag or mac",
			"begin it with: tag,user,password").About("credentials")
	}
	var list []knownLogin
	var cells []problem.Cell
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			return list, cells, nil
		}
		if err != nil {
			row := 0
			if bad := (*csv.ParseError)(nil); errors.As(err, &bad) {
				row = bad.StartLine
			}
			return nil, []problem.Cell{{Row: row, Reason: "the row cannot be read: fields or quotes do not pair up"}},
				nil
		}
		row, _ := r.FieldPos(0)
		get := func(column string) string {
			if i := at[column]; i >= 0 {
				return strings.TrimSpace(fields[i])
			}
			return ""
		}
		if to := get("state"); get("setting") != "" || to == state.Superseded || to == state.Refused {
			continue // of what is handed over, what opens the device is learnt
		}
		k := knownLogin{row: row, tag: get("tag"), login: profile.Login{User: get("user"), Password: get("password")}}
		complain := func(column, value, reason string) {
			cells = append(cells, problem.Cell{Row: row, Column: column, Value: value, Reason: reason})
		}
		k.mac, err = address.ParseMAC(get("mac"))
		switch {
		case err != nil:
			complain("mac", get("mac"), "is not a MAC address of one device")
		case k.mac.IsZero() && !tags[k.tag]:
			complain("tag", k.tag, "there is no such entry in the plan")
		case k.mac.IsZero() && boxes[k.tag].IsZero():
			complain("tag", k.tag, "no box is known for this entry; match it first, or give its MAC")
		}
		if k.mac.IsZero() {
			k.mac = boxes[k.tag]
		}
		if k.login.Password == "" || len(k.login.Password) > 200 {
			complain("password", "", fmt.Sprintf("is empty or longer than %d characters", 200))
		}
		if !tags[k.tag] {
			k.tag = ""
		}
		list = append(list, k)
	}
}
