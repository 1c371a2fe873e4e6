package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
)

// at gives the path of a call about the client's site.
func (c *Client) at(path string) string {
	return "/api/sites/" + url.PathEscape(c.site) + path
}

func entryPath(tag string) string { return "/entries/" + url.PathEscape(tag) }

// Sites lists the sites with how far they are.
func (c *Client) Sites(ctx context.Context) ([]api.Summary, error) {
	return get[[]api.Summary](ctx, c, "/api/sites")
}

// Keys lists the keys of the sites.
func (c *Client) Keys(ctx context.Context) ([]string, error) {
	sites, err := get[[]api.Summary](ctx, c, "/api/sites?brief=true")
	var keys []string
	for _, s := range sites {
		keys = append(keys, s.Key)
	}
	return keys, err
}

// AddSite makes a site and gives it with its key.
func (c *Client) AddSite(ctx context.Context, site plan.Site) (plan.Site, error) {
	return post[plan.Site](ctx, c, "/api/sites", site)
}

// Site gives the site's data.
func (c *Client) Site(ctx context.Context) (plan.Site, error) {
	return get[plan.Site](ctx, c, c.at(""))
}

// SetSite sets the site's data.
func (c *Client) SetSite(ctx context.Context, site plan.Site) error {
	return c.call(ctx, http.MethodPut, c.at(""), site, nil)
}

// RemoveSite forgets the site for good.
func (c *Client) RemoveSite(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, c.at("?sure="+url.QueryEscape(c.site)), nil, nil)
}

// Reckon reckons a prefix, or an address of the site.
func (c *Client) Reckon(ctx context.Context, of string) (api.Reckoning, error) {
	return get[api.Reckoning](ctx, c, "/api/reckon"+query("of", of, "site", c.site))
}

// Map tells what each address of a subnet is; "" means the first subnet.
func (c *Client) Map(ctx context.Context, subnet string) (plan.Map, error) {
	return get[plan.Map](ctx, c, c.at("/map"+query("subnet", subnet)))
}

// Files lists the site's files.
func (c *Client) Files(ctx context.Context) ([]api.File, error) {
	return get[[]api.File](ctx, c, c.at("/files"))
}

// PutFile stores a file of the site.
func (c *Client) PutFile(ctx context.Context, name string, content io.Reader) (f api.File, err error) {
	err = c.call(ctx, http.MethodPut, c.at("/files/"+url.PathEscape(name)), content, &f)
	return f, err
}

// KnownLogins lists which devices are given whose login.
func (c *Client) KnownLogins(ctx context.Context) ([]api.KnownLogin, error) {
	return get[[]api.KnownLogin](ctx, c, c.at("/known-logins"))
}

// KeepConfiguration takes the saved configuration of an entry's device, and keeps it as a file
// of the site; name "" calls it after the entry.
func (c *Client) KeepConfiguration(ctx context.Context, tag, name string) (api.File, error) {
	return post[api.File](ctx, c, c.at("/entries/"+url.PathEscape(tag)+"/configuration?name="+url.QueryEscape(name)), nil)
}

// File writes a file of the site to out.
func (c *Client) File(ctx context.Context, name string, out io.Writer) error {
	return c.call(ctx, http.MethodGet, c.at("/files/"+url.PathEscape(name)), nil, out)
}

// RemoveFile forgets a file of the site.
func (c *Client) RemoveFile(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, c.at("/files/"+url.PathEscape(name)), nil, nil)
}

// Import takes a plan file in.
func (c *Client) Import(ctx context.Context, file []byte, o api.ImportOptions) (planfile.Result, error) {
	q := url.Values{}
	for key, on := range map[string]bool{"preview": o.Preview, "apply": o.Apply, "whole": o.Whole,
		"configured": o.Configured} {
		if on {
			q.Set(key, "true")
		}
	}
	if o.Sheet != "" {
		q.Set("sheet", o.Sheet)
	}
	if o.Options.Rows != "" {
		q.Set("rows", o.Options.Rows)
	}
	if o.Mapping != nil {
		doc, err := json.Marshal(o.Mapping)
		if err != nil {
			return planfile.Result{}, err
		}
		q.Set("mapping", string(doc))
	}
	return post[planfile.Result](ctx, c, c.at("/imports?"+q.Encode()), file)
}

// CheckFile checks a plan file without importing it.
func (c *Client) CheckFile(ctx context.Context, file []byte) (planfile.Result, error) {
	return post[planfile.Result](ctx, c, c.at("/file-checks"), file)
}

// Export gives the plan as a file.
func (c *Client) Export(ctx context.Context, format, rows string) ([]byte, error) {
	return get[[]byte](ctx, c, c.at("/export"+query("format", format, "rows", rows)))
}

// Documents lists what a site can be handed over with.
func (c *Client) Documents(ctx context.Context) ([]api.Document, error) {
	return get[[]api.Document](ctx, c, "/api/documents")
}

// Make begins to make a document.
func (c *Client) Make(ctx context.Context, in api.ToMake) (api.Work, error) {
	return post[api.Work](ctx, c, c.at("/makings"), in)
}

// HandOver begins to make a document for somebody; once it is made it is kept that they have it.
func (c *Client) HandOver(ctx context.Context, in api.ForTaker) (api.Work, error) {
	return post[api.Work](ctx, c, c.at("/handovers"), in)
}

// Made writes the document that a work makes to out, once it is made.
func (c *Client) Made(ctx context.Context, work int64, out io.Writer) error {
	return c.call(ctx, http.MethodGet, c.at(fmt.Sprintf("/makings/%d", work)), nil, out)
}

// Handovers lists what was handed over.
func (c *Client) Handovers(ctx context.Context) ([]api.Handover, error) {
	return get[[]api.Handover](ctx, c, c.at("/handovers"))
}

// Since lists what is not as it was when something was handed over; 0 is the latest.
func (c *Client) Since(ctx context.Context, id int64) (api.Since, error) {
	return get[api.Since](ctx, c, c.at(fmt.Sprintf("/handovers/%d/differences", id)))
}

// Captures lists the packets of runs and verifications that kept them.
func (c *Client) Captures(ctx context.Context) ([]api.Capture, error) {
	return get[[]api.Capture](ctx, c, c.at("/captures"))
}

// HandPackets gives the packets of each device's conversations, sealed.
func (c *Client) HandPackets(ctx context.Context, id int64, in api.PacketsFor) ([]byte, error) {
	return post[[]byte](ctx, c, c.at(fmt.Sprintf("/captures/%d", id)), in)
}

// ForgetCapture forgets kept packets.
func (c *Client) ForgetCapture(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, c.at(fmt.Sprintf("/captures/%d", id)), nil, nil)
}

// Backup writes everything that the service keeps, sealed.
func (c *Client) Backup(ctx context.Context, in api.SealTo, to io.Writer) error {
	return c.call(ctx, http.MethodPost, "/api/backup", in, to)
}

// SealSite writes the whole site, sealed.
func (c *Client) SealSite(ctx context.Context, in api.SealTo, to io.Writer) error {
	return c.call(ctx, http.MethodPost, c.at("/archive"), in, to)
}

// TakeSite takes in a site from an archive that was opened.
func (c *Client) TakeSite(ctx context.Context, opened io.Reader, as string, preview bool) (out api.Coming, err error) {
	err = c.call(ctx, http.MethodPost, "/api/archives"+query("as", as, "preview", strconv.FormatBool(preview)), opened, &out)
	return out, err
}

// Lookout tells when the service looks by itself, and what it found.
func (c *Client) Lookout(ctx context.Context) (api.LookoutView, error) {
	return get[api.LookoutView](ctx, c, c.at("/lookout"))
}

// SetLookout has the service look by itself.
func (c *Client) SetLookout(ctx context.Context, in api.Lookout) (out api.LookoutView, err error) {
	err = c.call(ctx, http.MethodPut, c.at("/lookout"), in, &out)
	return out, err
}

// EndLookout has it look by itself no more.
func (c *Client) EndLookout(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, c.at("/lookout"), nil, nil)
}

// LookNow has it look now, and waits for what it finds.
func (c *Client) LookNow(ctx context.Context) (api.LookoutView, error) {
	return post[api.LookoutView](ctx, c, c.at("/lookout/look?wait=true"), nil)
}

// LoginLabels gives labels of named entries with the login of each.
func (c *Client) LoginLabels(ctx context.Context, in api.LoginLabels) ([]byte, error) {
	return post[[]byte](ctx, c, c.at("/labels"), in)
}

// LoginSheet gives a sheet with the logins of named entries.
func (c *Client) LoginSheet(ctx context.Context, in api.LoginsFor) ([]byte, error) {
	return post[[]byte](ctx, c, c.at("/documents/logins"), in)
}

// HandCredentials gives all logins and secrets, sealed.
func (c *Client) HandCredentials(ctx context.Context, in api.SealTo) ([]byte, error) {
	return post[[]byte](ctx, c, c.at("/documents/credentials"), in)
}

// Template gives an empty workbook.
func (c *Client) Template(ctx context.Context) ([]byte, error) {
	return get[[]byte](ctx, c, c.at("/template"))
}

// Entries lists the plan.
func (c *Client) Entries(ctx context.Context) ([]api.EntryView, error) {
	return get[[]api.EntryView](ctx, c, c.at("/entries"))
}

// Entry gives everything known of one entry.
func (c *Client) Entry(ctx context.Context, tag string) (api.Detail, error) {
	return get[api.Detail](ctx, c, c.at(entryPath(tag)))
}

// Edit changes, adds and removes entries.
func (c *Client) Edit(ctx context.Context, in api.Edits, preview bool) (out api.Edited, err error) {
	err = c.call(ctx, http.MethodPatch, c.at(fmt.Sprintf("/entries?preview=%t", preview)), in, &out)
	return out, err
}

// Generate adds entries from quantities.
func (c *Client) Generate(ctx context.Context, list []plan.Quantity, preview bool) (api.Edited, error) {
	return post[api.Edited](ctx, c, c.at(fmt.Sprintf("/quantities?preview=%t", preview)), list)
}

// Allocate gives out addresses.
func (c *Client) Allocate(ctx context.Context, a api.Allocation, preview bool) (api.Edited, error) {
	return post[api.Edited](ctx, c, c.at(fmt.Sprintf("/addresses?preview=%t", preview)), a)
}

// Mend applies all safe mends.
func (c *Client) Mend(ctx context.Context, in api.Chosen, preview bool) (api.Edited, error) {
	return post[api.Edited](ctx, c, c.at(fmt.Sprintf("/mends?preview=%t", preview)), in)
}

// GiveRole gives ports of switches a role, all or none.
func (c *Client) GiveRole(ctx context.Context, in api.RoleGiven, preview bool) (api.Edited, error) {
	return post[api.Edited](ctx, c, c.at(fmt.Sprintf("/roles-given?preview=%t", preview)), in)
}

// Findings says what is wrong with the plan.
func (c *Client) Findings(ctx context.Context) ([]plan.Finding, error) {
	return get[[]plan.Finding](ctx, c, c.at("/findings"))
}

// Revisions lists what was changed, latest first.
func (c *Client) Revisions(ctx context.Context) ([]api.RevisionView, error) {
	return get[[]api.RevisionView](ctx, c, c.at("/revisions"))
}

// NameRevision names a revision.
func (c *Client) NameRevision(ctx context.Context, id, name string) error {
	return c.call(ctx, http.MethodPut, c.at("/revisions/"+url.PathEscape(id)+"/name"), api.Named{Name: name}, nil)
}

// Compare compares two moments; an empty to means now.
func (c *Client) Compare(ctx context.Context, from, to string) (api.Moments, error) {
	return get[api.Moments](ctx, c, c.at("/comparison"+query("from", from, "to", to)))
}

// Restore makes the plan as it was.
func (c *Client) Restore(ctx context.Context, id string, preview bool) (api.Edited, error) {
	return post[api.Edited](ctx, c, c.at(fmt.Sprintf("/revisions/%s/restore?preview=%t", url.PathEscape(id), preview)),
		nil)
}

// Undo takes the latest revision back.
func (c *Client) Undo(ctx context.Context, id string) (api.Edited, error) {
	return post[api.Edited](ctx, c, c.at("/revisions/"+url.PathEscape(id)+"/undo"), nil)
}

// Redo goes one step forward again.
func (c *Client) Redo(ctx context.Context, id string) (api.Edited, error) {
	return post[api.Edited](ctx, c, c.at("/revisions/"+url.PathEscape(id)+"/redo"), nil)
}

// Profiles lists the device profiles.
func (c *Client) Profiles(ctx context.Context) ([]*profile.Profile, error) {
	return get[[]*profile.Profile](ctx, c, "/api/profiles")
}

// Rehearse says what a run would do.
func (c *Client) Rehearse(ctx context.Context, in api.RunOptions) (api.Rehearsal, error) {
	return post[api.Rehearsal](ctx, c, c.at("/rehearsals"), in)
}

// Commission starts a run.
func (c *Client) Commission(ctx context.Context, in api.RunOptions) (api.Work, error) {
	return post[api.Work](ctx, c, c.at("/runs"), in)
}

// LatestRun gives the latest run; ok is false before the first.
func (c *Client) LatestRun(ctx context.Context) (run api.Run, ok bool, err error) {
	run, err = get[api.Run](ctx, c, c.at("/runs/latest"))
	if problem.KindOf(err) == problem.Missing {
		return run, false, nil
	}
	return run, err == nil, err
}

// Run gives a run.
func (c *Client) Run(ctx context.Context, id int64) (api.Run, error) {
	return get[api.Run](ctx, c, c.at(fmt.Sprintf("/runs/%d", id)))
}

// OpenRuns gives the runs that have not ended, oldest first.
func (c *Client) OpenRuns(ctx context.Context) ([]api.Run, error) {
	return get[[]api.Run](ctx, c, c.at("/runs"))
}

// Did tells that a person did what devices of a run wait for, or accepts the terms that they
// wait for.
func (c *Client) Did(ctx context.Context, run int64, in api.Hands) error {
	return c.call(ctx, http.MethodPost, c.at(fmt.Sprintf("/runs/%d/hands", run)), in, nil)
}

// Say says of a check that nothing can look at that it is so.
func (c *Client) Say(ctx context.Context, tag string, in api.Word) error {
	return c.call(ctx, http.MethodPost, c.at("/entries/"+url.PathEscape(tag)+"/said"), in, nil)
}

// TakeHands says that you are at what devices of a run wait for, or no longer.
func (c *Client) TakeHands(ctx context.Context, run int64, in api.TakeHands) error {
	return c.call(ctx, http.MethodPost, c.at(fmt.Sprintf("/runs/%d/hands/take", run)), in, nil)
}

// Hands gives what persons have to do, in walking order.
func (c *Client) Hands(ctx context.Context) (api.HandList, error) {
	return get[api.HandList](ctx, c, c.at("/hands"))
}

// Resume goes on with a run that was cut off.
func (c *Client) Resume(ctx context.Context, run int64) (api.Work, error) {
	return post[api.Work](ctx, c, c.at(fmt.Sprintf("/runs/%d/resume", run)), nil)
}

// GiveUp gives up a run that was cut off.
func (c *Client) GiveUp(ctx context.Context, run int64) error {
	return c.call(ctx, http.MethodPost, c.at(fmt.Sprintf("/runs/%d/give-up", run)), nil, nil)
}

// Verify starts a verification.
func (c *Client) Verify(ctx context.Context, in api.VerifyOptions) (api.Work, error) {
	return post[api.Work](ctx, c, c.at("/verifications"), in)
}

// Reveal shows the stored login of an entry's device, or a secret setting.
func (c *Client) Reveal(ctx context.Context, tag, setting, credential string) (api.Shown, error) {
	return post[api.Shown](ctx, c, c.at(entryPath(tag)+"/reveal"+query("setting", setting, "credential", credential)),
		nil)
}

// Credentials lists what is stored to open an entry's device, without passwords.
func (c *Client) Credentials(ctx context.Context, tag string) ([]api.Credential, error) {
	return get[[]api.Credential](ctx, c, c.at(entryPath(tag)+"/credentials"))
}

// SetByHand marks entries as set by hand, and gives their tags.
func (c *Client) SetByHand(ctx context.Context, in api.Chosen) ([]string, error) {
	return post[[]string](ctx, c, c.at("/set-by-hand"), in)
}

// BeginAnew gives a vault that nothing opens a new key.
func (c *Client) BeginAnew(ctx context.Context) (api.VaultStatus, error) {
	return post[api.VaultStatus](ctx, c, "/api/vault/begin-anew", nil)
}

// BrokenProfiles lists the files of the profile folder that cannot be used.
func (c *Client) BrokenProfiles(ctx context.Context) ([]api.Broken, error) {
	return get[[]api.Broken](ctx, c, "/api/profiles/broken")
}

// LearnCredentials stores known logins, from CSV.
func (c *Client) LearnCredentials(ctx context.Context, file []byte) (api.Learned, error) {
	return post[api.Learned](ctx, c, c.at("/credentials"), file)
}

// SetPolicy sets how logins are made.
func (c *Client) SetPolicy(ctx context.Context, p api.PolicyChange) error {
	return c.call(ctx, http.MethodPut, c.at("/policies"), p, nil)
}

// RemovePolicy takes a policy away.
func (c *Client) RemovePolicy(ctx context.Context, of string) error {
	return c.call(ctx, http.MethodDelete, c.at("/policies"+query("for", of)), nil, nil)
}

// Vault tells whether the vault is open.
func (c *Client) Vault(ctx context.Context) (api.VaultStatus, error) {
	return get[api.VaultStatus](ctx, c, "/api/vault")
}

// LockVault locks the vault.
func (c *Client) LockVault(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/api/vault/lock", nil, nil)
}

// UnlockVault unlocks the vault.
func (c *Client) UnlockVault(ctx context.Context, passphrase string) error {
	return c.call(ctx, http.MethodPost, "/api/vault/unlock", api.Passphrase{Passphrase: passphrase}, nil)
}

// ChangeKey gives the vault a new key.
func (c *Client) ChangeKey(ctx context.Context, passphrase string) error {
	return c.call(ctx, http.MethodPost, "/api/vault/key", api.Passphrase{Passphrase: passphrase}, nil)
}

// Users lists who may sign in.
func (c *Client) Users(ctx context.Context) ([]api.User, error) {
	return get[[]api.User](ctx, c, "/api/users")
}

// AddUser makes a user.
func (c *Client) AddUser(ctx context.Context, a api.Account) error {
	return c.call(ctx, http.MethodPost, "/api/users", a, nil)
}

// SetUser changes a user.
func (c *Client) SetUser(ctx context.Context, a api.Account) error {
	return c.call(ctx, http.MethodPut, "/api/users/"+url.PathEscape(a.Name), a, nil)
}

// RemoveUser removes a user.
func (c *Client) RemoveUser(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/users/"+url.PathEscape(name), nil, nil)
}

// Tokens lists API tokens.
func (c *Client) Tokens(ctx context.Context) ([]api.Token, error) {
	return get[[]api.Token](ctx, c, "/api/tokens")
}

// AddToken makes an API token.
func (c *Client) AddToken(ctx context.Context, in api.ForToken) (api.NewToken, error) {
	return post[api.NewToken](ctx, c, "/api/tokens", in)
}

// RevokeToken revokes an API token.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/api/tokens/"+url.PathEscape(id), nil, nil)
}

// Works lists the works under way and those that ended lately, the latest first.
func (c *Client) Works(ctx context.Context) ([]api.Work, error) {
	return get[[]api.Work](ctx, c, "/api/works")
}

// Stop stops a work under way; 0 is the only one there is.
func (c *Client) Stop(ctx context.Context, work int64) error {
	return c.call(ctx, http.MethodPost, fmt.Sprintf("/api/works/%d/stop", work), nil, nil)
}

// Licences lists the devices that take a licence, and how far each is.
func (c *Client) Licences(ctx context.Context) ([]api.Licence, error) {
	return get[[]api.Licence](ctx, c, c.at("/licences"))
}

// CollectLicences gives what the supplier needs for the licences that are not there yet, which
// count as asked for then.
func (c *Client) CollectLicences(ctx context.Context, format string) ([]byte, error) {
	return post[[]byte](ctx, c, c.at("/licences/collection"+query("format", format)), nil)
}

// TakeLicences takes licences in, a file or a ZIP archive.
func (c *Client) TakeLicences(ctx context.Context, name string, content []byte, preview bool) (out api.LicencesTaken,
	err error) {
	show := ""
	if preview {
		show = "true"
	}
	err = c.call(ctx, http.MethodPost, c.at("/licences"+query("name", name, "preview", show)), content, &out)
	return out, err
}
