package server

import (
	"cmp"
	"encoding/json"
	"math"
	"net"
	"net/http"
	"reflect"
	"strconv"
	"time"

	"redstart/internal/account"
	"redstart/internal/api"
	"redstart/internal/commission"
	"redstart/internal/core/address"
	"redstart/internal/core/fact"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/right"
	"redstart/internal/jobs"
	"redstart/internal/planning"
	"redstart/internal/store"
	"redstart/profiles"
)

// routes are the whole API; the OpenAPI document is made from them.
func (s *Server) routes() []route {
	list := []route{
		call(s, "GET", "/api/health", "Whether the service is up", right.Nobody,
			func(*request, none) (api.Health, error) {
				return api.Health{Name: "redstart", Version: api.Version}, nil
			}),
		{method: "GET", path: "/api/openapi.json", summary: "This API as an OpenAPI document", need: right.Nobody,
			handler: s.getOpenAPI},
		{method: "GET", path: "/api/events", summary: "Everything that changes, as server-sent events",
			need: right.Look, out: reflect.TypeFor[eventStream](), handler: s.streamEvents,
			queries: []query{text("site", "only what concerns this site"), text("after", "the last event that the reader had")}},
		call(s, "GET", "/api/profiles", "The device profiles", right.Look,
			func(*request, none) ([]*profile.Profile, error) {
				return append([]*profile.Profile{}, s.Plans.Profiles().Sorted()...), nil
			}),
		call(s, "GET", "/api/profiles/broken", "Files of the profile folder that cannot be used", right.Look,
			func(*request, none) ([]profiles.Broken, error) {
				return s.Plans.BrokenProfiles(), nil
			}),
		call(s, "GET", "/api/fields", "The fields of an entry, with their help", right.Look,
			func(*request, none) ([]plan.Field, error) {
				return plan.Fields, nil
			}),
		call(s, "GET", "/api/facts", "What can be told of a device, and who may tell it", right.Look,
			func(*request, none) ([]fact.Kind, error) {
				return fact.All, nil
			}),
		call(s, "GET", "/api/reckon", "Subnet calculator", right.Look,
			func(r *request, _ none) (api.Reckoning, error) {
				return s.Plans.Reckon(r, r.query("of"), r.query("site"))
			}).takes(needed("of", "a prefix like 10.40.8.0/22, or an address"),
			text("site", "count what is left in this site")),
		call(s, "GET", "/api/interfaces", "The computer's network interfaces", right.Look,
			func(r *request, _ none) ([]api.InterfaceView, error) {
				seconds, err := strconv.ParseFloat(cmp.Or(r.query("listen"), "0"), 64)
				if err != nil || seconds < 0 || math.IsNaN(seconds) {
					return nil, problem.New(problem.Usage, "listen must be a number of seconds", "")
				}
				return s.Segments.Interfaces(r, time.Duration(min(seconds, 60)*float64(time.Second)))
			}).takes(text("listen", "seconds to hear what is on each")),
		call(s, "GET", "/api/segments", "The segments that the service is on, with the sites that use each",
			right.Look, func(r *request, _ none) ([]api.SegmentView, error) {
				return s.Segments.List(r)
			}),
		call(s, "DELETE", "/api/segments/:name", "Leave a segment", right.Own,
			func(r *request, _ none) (none, error) {
				return none{}, s.Segments.Unplug(r.param("name"))
			}),
		call(s, "GET", "/api/works", "The works under way and those that ended lately, the latest first", right.Look,
			func(*request, none) ([]api.Work, error) {
				return s.Works.List(), nil
			}),
		call(s, "POST", "/api/works/:id/stop", "Stop a work under way; 0 is the only one there is", right.Commission,
			func(r *request, _ none) (none, error) {
				id, err := planning.Number(r.param("id"), "work")
				if err != nil {
					return none{}, err
				}
				return none{}, s.Works.Stop(id)
			}),
	}
	for _, more := range [][]route{s.peopleRoutes(), s.vaultRoutes(), s.siteRoutes(), s.planRoutes(), s.findRoutes(),
		s.matchRoutes(), s.workRoutes(), s.handingRoutes()} {
		list = append(list, more...)
	}
	return list
}

const filesPath = "/api/sites/:site/files/:name"

func (s *Server) siteRoutes() []route {
	return []route{
		call(s, "GET", "/api/sites", "The sites with how far they are", right.Look,
			func(r *request, _ none) ([]api.Summary, error) {
				return s.Sites(r, r.yes("brief"))
			}).takes(yesNo("brief", "without how far they are")),
		call(s, "POST", "/api/sites", "Make a site", right.Plan, func(r *request, in plan.Site) (plan.Site, error) {
			return s.AddSite(r, in, r.who.Name)
		}),
		call(s, "GET", "/api/sites/:site", "The site's data", right.Look,
			func(r *request, _ none) (plan.Site, error) {
				return r.site.Records.Data(r)
			}),
		call(s, "PUT", "/api/sites/:site", "Set the site's data; policies have their own calls", right.Plan,
			func(r *request, in plan.Site) (plan.Site, error) {
				return r.site.Plan.SetData(r, in, r.who.Name)
			}),
		call(s, "DELETE", "/api/sites/:site", "Forget the site with everything of it", right.Own,
			func(r *request, _ none) (none, error) {
				return none{}, r.site.Remove(r, r.query("sure"))
			}).takes(text("sure", "the site's key")),
		call(s, "GET", "/api/sites/:site/files", "The site's files, such as licences", right.Look,
			func(r *request, _ none) ([]store.File, error) {
				return r.site.Records.Files(r)
			}),
		call(s, "PUT", filesPath, "Store a file of the site, up to 512 MiB, whole or not at all", right.Plan,
			func(r *request, in upload) (store.File, error) {
				return r.site.Plan.PutFile(r, r.param("name"), in, r.who.Name)
			}),
		call(s, "GET", filesPath, "A file of the site", right.Look, func(r *request, _ none) (planning.Stored, error) {
			f, content, err := r.site.Records.File(r, r.param("name"))
			return planning.Stored{Name: f.Name, Content: content}, err
		}),
		call(s, "DELETE", "/api/sites/:site/files/:name", "Forget a file of the site", right.Plan,
			func(r *request, _ none) (none, error) {
				return none{}, r.site.Plan.RemoveFile(r, r.param("name"))
			}),
		call(s, "GET", "/api/sites/:site/map", "What each address of a subnet is", right.Look,
			func(r *request, _ none) (plan.Map, error) {
				return r.site.Plan.Map(r, r.query("subnet"))
			}).takes(text("subnet", "its name; the first one without")),
	}
}

func (s *Server) planRoutes() []route {
	const at = "/api/sites/:site/"
	return []route{
		call(s, "GET", at+"entries", "The plan with what is known of each box", right.Look,
			func(r *request, _ none) ([]api.EntryView, error) {
				return r.site.Plan.Entries(r)
			}),
		call(s, "POST", at+"entries/:tag/configuration",
			"Take the saved configuration of its device, and keep it as a file of the site", right.Commission,
			func(r *request, _ none) (store.File, error) {
				return r.site.Jobs.KeepConfiguration(r, r.param("tag"), r.query("name"), r.who.Name)
			}).takes(text("name", "of the file; after the tag without")),
		call(s, "GET", at+"entries/:tag", "Everything known of one entry", right.Look,
			func(r *request, _ none) (api.Detail, error) {
				return r.site.Plan.Detail(r, r.param("tag"))
			}),
		call(s, "PATCH", at+"entries", "Change, add and remove entries, all or none", right.Plan,
			func(r *request, in api.Edits) (api.Edited, error) {
				return r.site.Plan.Edit(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"quantities", "Entries from quantities", right.Plan,
			func(r *request, in []plan.Quantity) (api.Edited, error) {
				return r.site.Plan.Generate(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"addresses", "Give out addresses to a selection", right.Plan,
			func(r *request, in api.Allocation) (api.Edited, error) {
				return r.site.Plan.Allocate(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"mends", "Apply all safe mends", right.Plan,
			func(r *request, in api.Chosen) (api.Edited, error) {
				return r.site.Plan.Mend(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "GET", at+"findings", "What is wrong with the plan", right.Look,
			func(r *request, _ none) ([]plan.Finding, error) {
				return r.site.Plan.Findings(r)
			}),
		call(s, "POST", at+"imports", "Import a plan file (CSV, XLSX, JSON) as the body", right.Plan,
			func(r *request, in file) (planfile.Result, error) {
				o, err := importOptions(r)
				if err != nil {
					return planfile.Result{}, err
				}
				return r.site.Plan.Import(r, in, o, r.who.Name)
			}).takes(previews, text("sheet", "of a workbook"), text("rows",
			"the file holds the tables of this setting, one line for each row"),
			text("mapping", "JSON object of header to field"),
			yesNo("whole", "the file is the whole plan: entries that it leaves out are removed"),
			yesNo("configured", "also entries whose devices are configured"),
			yesNo("apply", "change and remove entries that are in the plan already")),
		call(s, "POST", at+"file-checks", "Check a plan file without importing it", right.Plan,
			func(r *request, in file) (planfile.Result, error) {
				return r.site.Plan.CheckFile(r, in)
			}),
		call(s, "GET", at+"export", "The plan as a file", right.Look,
			func(r *request, _ none) (planning.Download, error) {
				return r.site.Plan.Export(r, r.query("format"), r.query("rows"))
			}).takes(formats("csv, xlsx or json"),
			text("rows", "key of a setting of the type rows: its tables alone, as CSV")),
		call(s, "GET", at+"template", "An empty workbook with drop-downs", right.Look,
			func(r *request, _ none) (planning.Download, error) {
				return r.site.Plan.Template(r)
			}),
		call(s, "GET", at+"revisions", "What was changed, latest first", right.Look,
			func(r *request, _ none) ([]api.RevisionView, error) {
				return r.site.Plan.Revisions(r)
			}),
		call(s, "PUT", at+"revisions/:id/name", "Name a revision", right.Plan,
			func(r *request, in api.Named) (store.Revision, error) {
				return r.site.Plan.NameRevision(r, r.param("id"), in.Name)
			}),
		call(s, "GET", at+"comparison", "Compare two moments", right.Look,
			func(r *request, _ none) (api.Moments, error) {
				return r.site.Plan.Compare(r, r.query("from"), r.query("to"))
			}).takes(needed("from", "number of a revision"), text("to", "number of a revision; now without")),
		call(s, "POST", at+"revisions/:id/restore", "Make the plan as it was", right.Plan,
			func(r *request, _ none) (api.Edited, error) {
				return r.site.Plan.Restore(r, r.param("id"), r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"revisions/:id/undo", "Go one step back: undo the revision whose turn it is", right.Plan,
			func(r *request, _ none) (api.Edited, error) {
				return r.site.Plan.Undo(r, r.param("id"), r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"revisions/:id/redo",
			"Go one step forward: redo what the undoing whose turn it is took back", right.Plan,
			func(r *request, _ none) (api.Edited, error) {
				return r.site.Plan.Redo(r, r.param("id"), r.yes("preview"), r.who.Name)
			}).takes(previews),
	}
}

func (s *Server) findRoutes() []route {
	const at = "/api/sites/:site/"
	return []route{
		call(s, "GET", at+"devices", "Everything found on the segment", right.Look,
			func(r *request, _ none) (api.Segment, error) {
				return r.site.Jobs.Devices(r)
			}),
		call(s, "GET", at+"devices/:mac", "Everything known of a found device, with where each fact comes from",
			right.Look, ofDevice(func(r *request, mac address.MAC, _ none) (*api.DeviceView, error) {
				return r.site.Plan.Device(r, mac)
			})),
		call(s, "POST", at+"devices/forget", "Forget found devices that no entry is matched with, all or none",
			right.Commission, func(r *request, in api.Macs) (none, error) {
				return none{}, r.site.Jobs.Forget(r, in.MACs)
			}),
		call(s, "PUT", at+"devices/:mac/profile", "Say which profile a device has", right.Commission,
			ofDevice(func(r *request, mac address.MAC, in api.Choice) (*api.DeviceView, error) {
				return r.site.Jobs.Choose(r, mac, in)
			})),
		call(s, "POST", at+"devices/:mac/blink", "Make a device show itself", right.Commission,
			ofDevice(func(r *request, mac address.MAC, _ none) (none, error) {
				return none{}, r.site.Jobs.Blink(r, mac)
			})),
		call(s, "POST", at+"devices/:mac/trials", "Try acts of a profile with a box, and see each move as it went",
			right.Commission, ofDevice(func(r *request, mac address.MAC, in api.Trial) (api.Tried, error) {
				return r.site.Jobs.Try(r, mac, in, r.who.Name)
			})),
		call(s, "POST", at+"devices/:mac/page", "Open the device's own page in the browser, at an address of its own",
			right.Commission, ofDevice(func(r *request, mac address.MAC, _ none) (api.PageView, error) {
				local, _ := r.echo.Request().Context().Value(http.LocalAddrContextKey).(net.Addr)
				if local == nil {
					return api.PageView{}, problem.New(problem.Machine, "the service does not know where it is reached",
						"")
				}
				return r.site.Jobs.OpenPage(r, mac, s.guest(r.echo), local.String())
			})),
		call(s, "DELETE", at+"devices/:mac/page", "Close the device's own page", right.Commission,
			ofDevice(func(r *request, mac address.MAC, _ none) (none, error) {
				r.site.Jobs.ClosePage(mac)
				return none{}, nil
			})),
		call(s, "PUT", at+"segment",
			"Have the site use a segment; an interface, or a virtual LAN on one, is plugged in first", right.Own,
			func(r *request, in api.Plugged) (none, error) {
				return none{}, r.site.Segment.Use(r, in.Interface)
			}),
		call(s, "GET", at+"found", "Everything found as a file", right.Look,
			func(r *request, _ none) (planning.Download, error) {
				return r.site.Jobs.ExportDevices(r, r.query("format"))
			}).takes(formats("csv, xlsx or json")),
		call(s, "GET", at+"surveys", "The surveys with what each changed, latest first", right.Look,
			func(r *request, _ none) ([]store.Survey, error) {
				return r.site.Records.Surveys(r, jobs.MostSurveys)
			}),
		call(s, "POST", at+"surveys", "Start a survey", right.Commission,
			func(r *request, in api.FindOptions) (api.Work, error) {
				return r.site.Jobs.Find(r, r.who.Name, in)
			}),
		call(s, "GET", at+"surveys/:id/capture", "The packets of a survey, as pcapng; they may hold what was typed into a box", right.Commission,
			func(r *request, _ none) (planning.Download, error) {
				id, err := planning.Number(r.param("id"), "survey")
				if err != nil {
					return planning.Download{}, err
				}
				return r.site.Jobs.Capture(r, id)
			}),
		call(s, "PUT", at+"watch", "Begin or end the standing watch", right.Commission,
			func(r *request, in api.Watching) (none, error) {
				return none{}, r.site.Jobs.Watch(r, in.On)
			}),
		call(s, "GET", at+"askers", "The boxes that wait for an address over DHCP", right.Look,
			func(r *request, _ none) ([]api.Asker, error) {
				return r.site.Jobs.Askers(r)
			}),
		call(s, "POST", at+"leases", "Give planned addresses over DHCP to exactly the chosen boxes", right.Commission,
			func(r *request, in api.HandOut) (api.Work, error) {
				return r.site.Jobs.HandOut(r, r.who.Name, in)
			}),
	}
}

// ofDevice reads the MAC of calls about a found device.
func ofDevice[In, Out any](do func(r *request, mac address.MAC, in In) (Out, error)) func(*request, In) (Out, error) {
	return func(r *request, in In) (out Out, err error) {
		mac, err := address.ParseMAC(r.param("mac"))
		if err != nil {
			return out, problem.New(problem.Usage, err.Error(), "")
		}
		return do(r, mac, in)
	}
}

func (s *Server) matchRoutes() []route {
	const at = "/api/sites/:site/"
	return []route{
		call(s, "GET", at+"matches", "Proposed matches, and what is left over on both sides", right.Look,
			func(r *request, _ none) (match.Result, error) {
				return r.site.Jobs.Propose(r)
			}),
		call(s, "POST", at+"matches", "Accept proposed matches", right.Commission,
			func(r *request, in api.Acceptance) ([]match.Proposal, error) {
				return r.site.Jobs.Accept(r, in, r.who.Name)
			}),
		call(s, "POST", at+"matches/undo", "Undo matches: of entries, all or none, or all that were made for a reason",
			right.Commission, func(r *request, in api.Undo) ([]string, error) {
				return r.site.Jobs.UndoMatches(r, in, r.who.Name)
			}),
		call(s, "PUT", at+"entries/:tag/match", "Match an entry with a box by hand", right.Commission,
			func(r *request, in api.MatchWith) (none, error) {
				if in.MAC.IsZero() {
					return none{}, problem.New(problem.Usage, "no MAC is given", "give the MAC of a found device")
				}
				by, why := match.ByHand, "chosen by "+r.who.Name
				if in.Arrival {
					by, why = match.ByArrival, "it came onto the segment when it was awaited by "+r.who.Name
				}
				return none{}, r.site.Jobs.Match(r, r.param("tag"), in.MAC, by, why, r.who.Name)
			}),
		call(s, "PUT", at+"locks", "Keep matches from being changed, or let them be, all or none", right.Commission,
			func(r *request, in api.Locking) (none, error) {
				return none{}, r.site.Jobs.Lock(r, in, r.who.Name)
			}),
		call(s, "POST", at+"entries/:tag/replace", "Put a new box in the place of an entry's", right.Commission,
			func(r *request, in api.Replacement) (api.Replaced, error) {
				return r.site.Jobs.Replace(r, r.param("tag"), in, r.who.Name)
			}),
		call(s, "POST", at+"scans", "Take in the label that was scanned", right.Commission,
			func(r *request, in api.Scan) (api.Scanned, error) {
				return r.site.Jobs.Scanned(r, in, r.who.Name)
			}),
		call(s, "POST", at+"adoptions", "Take found devices into the plan", right.Commission,
			func(r *request, in api.Adoption) (api.Edited, error) {
				return r.site.Jobs.Adopt(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
	}
}

func (s *Server) workRoutes() []route {
	const at = "/api/sites/:site/"
	return []route{
		call(s, "POST", at+"rehearsals", "What a run would do", right.Look,
			func(r *request, in api.RunOptions) (commission.Rehearsal, error) {
				rehearsal, _, err := r.site.Jobs.Rehearse(r, in)
				return rehearsal, err
			}),
		call(s, "GET", at+"runs/latest", "The latest run", right.Look, func(r *request, _ none) (store.Run, error) {
			return r.site.Jobs.LatestRun(r)
		}),
		call(s, "GET", at+"runs", "The runs that have not ended, oldest first", right.Look,
			func(r *request, _ none) ([]store.Run, error) {
				return r.site.Records.OpenRuns(r)
			}),
		call(s, "GET", at+"runs/:id", "A run", right.Look, func(r *request, _ none) (store.Run, error) {
			id, err := planning.Number(r.param("id"), "run")
			if err != nil {
				return store.Run{}, err
			}
			return r.site.Jobs.Run(r, id)
		}),
		call(s, "POST", at+"runs/:id/hands", "Say that a person did what devices wait for, all or none",
			right.Commission, func(r *request, in api.Hands) (none, error) {
				id, err := planning.Number(r.param("id"), "run")
				if err != nil {
					return none{}, err
				}
				return none{}, r.site.Jobs.Did(r, id, in, r.who.Name)
			}),
		call(s, "POST", at+"runs/:id/hands/take", "Say that you are at what devices wait for, or no longer, all or none",
			right.Commission, func(r *request, in api.TakeHands) (none, error) {
				id, err := planning.Number(r.param("id"), "run")
				if err != nil {
					return none{}, err
				}
				return none{}, r.site.Jobs.TakeHands(r, id, in, r.who.Name)
			}),
		call(s, "GET", at+"licences", "The devices that take a licence, and how far each is", right.Look,
			func(r *request, _ none) ([]api.Licence, error) {
				return r.site.Plan.Licences(r)
			}),
		call(s, "POST", at+"licences/collection", "What the supplier needs for the licences that are not there yet; they count as asked for",
			right.Plan, func(r *request, _ none) (planning.Download, error) {
				return r.site.Plan.CollectLicences(r, r.query("format"))
			}).takes(formats("csv or xlsx")),
		call(s, "POST", at+"licences", "Take licences in, a file or a ZIP archive: each is matched by the host id in it",
			right.Plan, func(r *request, in file) (api.LicencesTaken, error) {
				return r.site.Plan.TakeLicences(r, cmp.Or(r.query("name"), "licences"), in, r.query("preview") == "true", r.who.Name)
			}).takes(previews, text("name", "of the file")),
		call(s, "GET", at+"hands", "What persons have to do at which device, in walking order", right.Look,
			func(r *request, _ none) (api.HandList, error) {
				return r.site.Jobs.Hands(r)
			}),
		call(s, "POST", at+"runs", "Start a run", right.Commission,
			func(r *request, in api.RunOptions) (api.Work, error) {
				return r.site.Jobs.Commission(r, r.who.Name, in)
			}),
		call(s, "POST", at+"set-by-hand", "Mark entries as set by hand, all or none", right.Commission,
			func(r *request, in api.Chosen) ([]string, error) {
				return r.site.Jobs.SetByHand(r, in, r.who.Name)
			}),
		call(s, "POST", at+"runs/:id/resume", "Go on with a run that was cut off", right.Commission,
			func(r *request, _ none) (api.Work, error) {
				id, err := planning.Number(r.param("id"), "run")
				if err != nil {
					return api.Work{}, err
				}
				return r.site.Jobs.Resume(r, id, r.who.Name)
			}),
		call(s, "POST", at+"runs/:id/give-up", "Give up a run that was cut off", right.Commission,
			func(r *request, _ none) (none, error) {
				id, err := planning.Number(r.param("id"), "run")
				if err != nil {
					return none{}, err
				}
				return none{}, r.site.Jobs.GiveUp(r, id, r.who.Name)
			}),
		call(s, "POST", at+"verifications", "Start a verification", right.Commission,
			func(r *request, in api.VerifyOptions) (api.Work, error) {
				return r.site.Jobs.Verify(r, r.who.Name, in)
			}),
	}
}

func (s *Server) vaultRoutes() []route {
	const at = "/api/sites/:site/"
	return []route{
		call(s, "GET", "/api/vault", "Whether the vault is open, and what opens it", right.Look,
			func(*request, none) (api.VaultStatus, error) {
				return s.VaultStatus(), nil
			}),
		call(s, "POST", "/api/vault/lock", "Lock the vault", right.Commission,
			func(*request, none) (api.VaultStatus, error) {
				s.LockVault()
				return s.VaultStatus(), nil
			}),
		call(s, "POST", "/api/vault/unlock", "Unlock the vault", right.Commission,
			func(r *request, in api.Passphrase) (api.VaultStatus, error) {
				return s.UnlockVault(r, in.Passphrase, r.who.Name)
			}),
		call(s, "POST", "/api/vault/key",
			"Give the vault a new key: with a passphrase, or with a key file for an empty one", right.Own,
			func(r *request, in api.Passphrase) (api.VaultStatus, error) {
				return s.ChangeKey(r, in.Passphrase)
			}),
		call(s, "PUT", at+"policies", "Set how logins are made for the site, a kind or a profile", right.Plan,
			func(r *request, in api.PolicyChange) (plan.Site, error) {
				return r.site.Plan.SetPolicy(r, in, r.who.Name)
			}),
		call(s, "DELETE", at+"policies", "Take a policy away", right.Plan,
			func(r *request, _ none) (plan.Site, error) {
				return r.site.Plan.RemovePolicy(r, r.query("for"), r.who.Name)
			}).takes(text("for", "kind:NAME, profile:NAME, or nothing for the site's")),
		call(s, "POST", at+"entries/:tag/reveal",
			"Show the login that opens its device, or another secret of it; recorded", right.Commission,
			func(r *request, _ none) (api.Shown, error) {
				id := int64(0)
				if text := r.query("credential"); text != "" {
					var err error
					if id, err = planning.Number(text, "credential"); err != nil {
						return api.Shown{}, err
					}
				}
				return r.site.Plan.Reveal(r, r.param("tag"), r.query("setting"), id, r.who.Name)
			}).takes(text("setting", "key of a secret setting"), text("credential", "number of another stored login")),
		call(s, "GET", at+"known-logins", "Which devices are given whose login, without passwords", right.Look,
			func(r *request, _ none) ([]api.KnownLogin, error) {
				return r.site.Plan.KnownLogins(r)
			}),
		call(s, "GET", at+"entries/:tag/credentials", "What is stored to open its device, without passwords",
			right.Look, func(r *request, _ none) ([]api.Credential, error) {
				return r.site.Plan.Credentials(r, r.param("tag"))
			}),
		call(s, "POST", "/api/vault/begin-anew",
			"Give a vault that nothing opens a new key; what the lost one sealed stays sealed", right.Own,
			func(r *request, _ none) (api.VaultStatus, error) {
				return s.BeginAnew(r)
			}),
		call(s, "POST", at+"credentials",
			"Known logins of devices that are set already, as CSV: tag or mac, user, password", right.Commission,
			func(r *request, in file) (api.Learned, error) {
				return r.site.Jobs.LearnCredentials(r, in, r.who.Name)
			}),
	}
}

func (s *Server) peopleRoutes() []route {
	return []route{
		{method: "POST", path: "/api/session", summary: "Sign in with user and password or a one-time link",
			need: right.Nobody, handler: s.signIn, in: reflect.TypeFor[account.SignIn](), out: reflect.TypeFor[account.Person]()},
		call(s, "GET", "/api/session", "Who is signed in", right.Look,
			func(r *request, _ none) (account.Person, error) {
				return r.who, nil
			}),
		{method: "DELETE", path: "/api/session", summary: "Sign out", need: right.Look, handler: s.signOut},
		byPerson(call(s, "PUT", "/api/session/password", "Change one's own password", right.Look,
			func(r *request, in account.NewPassword) (none, error) {
				return none{}, s.Accounts.ChangePassword(r, r.who, in)
			})),
		call(s, "GET", "/api/users", "Who may sign in", right.Own, func(r *request, _ none) ([]store.User, error) {
			return s.Records.Users(r)
		}),
		byPerson(call(s, "POST", "/api/users", "Make a user", right.Own, func(r *request, in account.Account) (none, error) {
			return none{}, s.Accounts.Add(r, in)
		})),
		byPerson(call(s, "PUT", "/api/users/:name", "Change a user's rights or password", right.Own,
			func(r *request, in account.Account) (none, error) {
				in.Name = r.param("name")
				return none{}, s.Accounts.Set(r, in)
			})),
		byPerson(call(s, "DELETE", "/api/users/:name", "Remove a user", right.Own, func(r *request, _ none) (none, error) {
			return none{}, s.Accounts.Remove(r, r.param("name"))
		})),
		call(s, "GET", "/api/tokens", "API tokens: one's own, or everybody's for an owner", right.Look,
			func(r *request, _ none) ([]store.Token, error) {
				return s.Accounts.Tokens(r, r.who)
			}),
		byPerson(call(s, "POST", "/api/tokens", "Make an API token for oneself; it is shown once", right.Look,
			func(r *request, in account.ForToken) (account.NewToken, error) {
				return s.Accounts.AddToken(r, r.who, in)
			})),
		byPerson(call(s, "DELETE", "/api/tokens/:id", "Revoke an API token", right.Look,
			func(r *request, _ none) (none, error) {
				id, err := planning.Number(r.param("id"), "token")
				if err != nil {
					return none{}, err
				}
				return none{}, s.Accounts.RevokeToken(r, r.who, id)
			})),
	}
}

func importOptions(r *request) (o api.ImportOptions, err error) {
	o = api.ImportOptions{Options: planfile.Options{Sheet: r.query("sheet"), Rows: r.query("rows"),
		Whole: r.yes("whole"), Configured: r.yes("configured")}, Preview: r.yes("preview"), Apply: r.yes("apply")}
	if m := r.query("mapping"); m != "" {
		if json.Unmarshal([]byte(m), &o.Mapping) != nil {
			err = problem.New(problem.Usage, "the mapping is not a JSON object of header to field", "")
		}
	}
	return o, err
}
