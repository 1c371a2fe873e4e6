package server

import (
	"net"
	"net/http"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/planning"
)

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
			}).takes(formats("csv, xlsx or json")).gives(listKinds...),
		call(s, "GET", at+"surveys", "The surveys with what each changed, latest first", right.Look,
			func(r *request, _ none) ([]api.Survey, error) {
				return r.site.Jobs.Surveys(r)
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
			}).gives(bytesKind),
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
