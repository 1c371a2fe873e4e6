package server

import (
	"context"

	"redstart/internal/api"
	"redstart/internal/core/right"
	"redstart/internal/handover"
	"redstart/internal/planning"
)

// archivesPath takes a whole site, which may be large.
const archivesPath = "/api/archives"

// hookHidden shows the address of a hook, which may be a secret, to an owner alone.
func hookHidden(r *request, look func(context.Context) (api.LookoutView, error)) (api.LookoutView, error) {
	v, err := look(r)
	if !r.who.Rights.Holds(right.Own) {
		v.Hook = handover.HookHost(v.Hook)
	}
	return v, err
}

// handingRoutes are those of the hand-over.
func (s *Server) handingRoutes() []route {
	const at = "/api/sites/:site/"
	member := text("member", "name of a file in it, where it is an archive; all of it without")
	return []route{
		call(s, "GET", "/api/documents", "What a site can be handed over with", right.Look,
			func(*request, none) ([]api.Document, error) { return s.Handing.Documents(), nil }),
		call(s, "GET", "/api/columns", "Which columns a register can have", right.Look,
			func(*request, none) ([]api.Column, error) { return s.Handing.Columns(), nil }),
		call(s, "GET", at+"documents/:name", "One document of the hand-over", right.Look,
			func(r *request, _ none) (planning.Download, error) {
				return r.site.Handing.Document(r, api.ToMake{Document: r.param("name")})
			}).gives(handover.Kinds()...),
		call(s, "GET", at+"handovers", "What was handed over, when, by whom and to whom, the latest first", right.Look,
			func(r *request, _ none) ([]api.Handover, error) { return r.site.Handing.Handovers(r) }),
		call(s, "POST", at+"handovers", "Make a document for somebody in the background; once it is made it is kept that they have it, with the values of then",
			right.Commission, func(r *request, in api.ForTaker) (api.Work, error) { return r.site.Handing.HandOver(in, r.who.Name) }),
		call(s, "POST", at+"makings", "Make a document in the background: one of the list, labels in walking order, or a commissioning sheet for each of some entries",
			right.Look, func(r *request, in api.ToMake) (api.Work, error) { return r.site.Handing.Make(in, r.who.Name) }),
		call(s, "GET", at+"makings/:id", "The document that a work makes, once it is made", right.Look,
			func(r *request, _ none) (planning.Stored, error) {
				id, err := planning.Number(r.param("id"), "document")
				if err != nil {
					return planning.Stored{}, err
				}
				return r.site.Handing.Made(r, id, r.query("member"))
			}).takes(member),
		call(s, "GET", at+"makings/:id/preview", "What the document that a work makes shows: sheets, files or lines as they stand in it", right.Look,
			func(r *request, _ none) (api.Preview, error) {
				id, err := planning.Number(r.param("id"), "document")
				if err != nil {
					return api.Preview{}, err
				}
				return r.site.Handing.Preview(r, id, r.query("member"))
			}).takes(member),
		call(s, "GET", at+"handovers/:id/differences", "What is not as it was when something was handed over; 0 is the latest", right.Look,
			func(r *request, _ none) (api.Since, error) {
				id, err := planning.Number(r.param("id"), "hand-over")
				if err != nil {
					return api.Since{}, err
				}
				return r.site.Handing.Since(r, id)
			}),
		call(s, "GET", at+"captures", "The packets of runs and verifications that kept them", right.Commission,
			func(r *request, _ none) ([]api.Capture, error) { return r.site.Jobs.Captures(r) }),
		call(s, "POST", at+"captures/:id", "The packets of each device's conversations, a pcapng file each, sealed (age); recorded", right.Commission,
			func(r *request, in api.PacketsFor) (planning.Download, error) {
				id, err := planning.Number(r.param("id"), "capture")
				if err != nil {
					return planning.Download{}, err
				}
				return r.site.Jobs.HandPackets(r, id, in, r.who.Name)
			}).gives(bytesKind),
		call(s, "DELETE", at+"captures/:id", "Forget kept packets", right.Commission,
			func(r *request, _ none) (none, error) {
				id, err := planning.Number(r.param("id"), "capture")
				if err != nil {
					return none{}, err
				}
				return none{}, r.site.Jobs.ForgetCapture(r, id)
			}),
		call(s, "POST", "/api/backup", "Everything that the service keeps, as it is at one moment, sealed (age)", right.Own,
			func(r *request, in api.SealTo) (planning.Stored, error) { return s.Handing.Backup(r, in, r.who.Name) }),
		call(s, "POST", at+"archive", "The whole site with what opens its devices, sealed (age), for another service; recorded", right.Own,
			func(r *request, in api.SealTo) (planning.Stored, error) {
				return r.site.Handing.SealSite(r, in, r.who.Name)
			}),
		call(s, "POST", archivesPath, "Take in a site from an archive that was opened, all or nothing", right.Own,
			func(r *request, in upload) (api.Coming, error) {
				return s.Handing.TakeSite(r, in, r.query("as"), r.yes("preview"), r.who.Name)
			}).takes(previews, text("as", "key that the site gets here; its own without")),
		call(s, "GET", at+"lookout", "When the service looks by itself whether the site is as it was, and what it found", right.Look,
			func(r *request, _ none) (api.LookoutView, error) { return hookHidden(r, r.site.Handing.Lookout) }),
		call(s, "PUT", at+"lookout", "Have the service look by itself from now on, once at once", right.Own,
			func(r *request, in api.Lookout) (api.LookoutView, error) { return r.site.Handing.SetLookout(r, in) }),
		call(s, "DELETE", at+"lookout", "Have the service look by itself no more", right.Own,
			func(r *request, _ none) (none, error) { return none{}, r.site.Handing.EndLookout(r) }),
		call(s, "POST", at+"lookout/look", "Have it look now", right.Commission,
			func(r *request, _ none) (api.LookoutView, error) {
				return hookHidden(r, func(ctx context.Context) (api.LookoutView, error) { return r.site.Handing.LookNow(ctx, r.yes("wait")) })
			}).takes(yesNo("wait", "wait for what it finds")),
		call(s, "POST", at+"labels", "Labels of named entries with the login of each, for somebody; recorded", right.Commission,
			func(r *request, in api.LoginLabels) (planning.Download, error) {
				return r.site.Handing.LoginLabels(r, in, r.who.Name)
			}).gives("application/pdf", "application/zip"),
		call(s, "POST", at+"documents/logins", "A sheet of paper with the logins of named entries, for somebody, as PDF; recorded", right.Commission,
			func(r *request, in api.LoginsFor) (planning.Download, error) {
				return r.site.Handing.LoginSheet(r, in, r.who.Name)
			}).gives("application/pdf"),
		call(s, "POST", at+"documents/credentials", "All logins and secrets, sealed (age) to public keys or with a passphrase; recorded",
			right.Commission, func(r *request, in api.SealTo) (planning.Download, error) {
				return r.site.Handing.HandCredentials(r, in, r.who.Name)
			}).gives(bytesKind),
	}
}
