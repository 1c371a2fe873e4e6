package driver_test

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/watch"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/c20"
	"redstart/internal/sim/model/fs8"
	"redstart/internal/sim/skerry"
	"redstart/internal/sim/station"
	"redstart/profiles"
)

// one starts a site with one device of a model and waits until it is there.
func one(t *testing.T, model, id string) (*box.Box, *bench.Bench, func(at string) *driver.Client) {
	t.Helper()
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	site := skerry.Start(skerry.Options{Devices: 1, Only: model, Pace: 0.05})
	t.Cleanup(site.Close)
	b := bench.New(site.Attach())
	t.Cleanup(func() { b.Close() })
	device := site.Boxes[0]
	w := watch.New(b, device.MAC, nil)
	defer w.Close()
	if _, err := w.Find(patient(t), set[id].Factory.Address.List(), true); err != nil {
		t.Fatal(err)
	}
	return device, b, func(at string) *driver.Client {
		a, _ := netip.ParseAddr(at)
		client := driver.New(b, driver.Target{MAC: device.MAC, Address: a, Bits: 24, Profile: set[id]})
		t.Cleanup(client.Close)
		return client
	}
}

func patient(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	t.Cleanup(cancel)
	return ctx
}

var numbers = map[string]string{"address": "10.40.8.30", "bits": "22", "mask": "255.255.252.0", "gateway": "10.40.8.1",
	"name": "hall-sw-01", "user": "u"}

// A switch without an address is reached over DCP; what is set is lost at a
// power cut until it is saved, as the profile's order knows.
func TestASwitchWithoutAnAddress(t *testing.T) {
	device, b, client := one(t, "FS8", "fennmark-fs8")
	ctx := patient(t)
	dark := client("")
	facts, err := dark.Do(ctx, profile.Identify, nil)
	if err != nil || facts["model"] != "FS8" || facts["name"] != "" {
		t.Fatalf("%v, %v", facts, err)
	}
	if _, err := dark.Do(ctx, profile.Read, nil); err == nil ||
		!strings.Contains(err.Error(), "no address to talk to") {
		t.Errorf("a page of a box without an address: %v", err)
	}
	before := station.Blinks.Load()
	if _, err := dark.Do(ctx, profile.Blink, nil); err != nil || station.Blinks.Load() == before {
		t.Errorf("it did not blink: %v", err)
	}
	bad := map[string]string{"name": "Has Spaces"}
	if _, err := dark.Do(ctx, profile.Name, bad); err == nil ||
		!strings.Contains(err.Error(), "the device refused: set not possible by local reasons") {
		t.Errorf("a bad name: %v", err)
	}
	for _, act := range []profile.Act{profile.Name, profile.Address} {
		if _, err := dark.Do(ctx, act, numbers); err != nil {
			t.Fatal(err)
		}
	}
	w := watch.New(b, device.MAC, nil)
	defer w.Close()
	at := netip.Addr{}
	for at.String() != "10.40.8.30" {
		if at, err = w.Find(ctx, []netip.Addr{netip.MustParseAddr("10.40.8.30")}, false); err != nil {
			t.Fatal(err)
		}
	}
	page := client("10.40.8.30")
	secret := map[string]string{"password": "Correct-Horse-9"}
	if _, err := page.Do(ctx, profile.Password, secret); err == nil ||
		strings.Contains(err.Error(), "Correct-Horse-9") {
		t.Errorf("a password with characters that it does not take: %v", err)
	}
	secret["password"] = "CorrectHorse9"
	if _, err := page.Do(ctx, profile.Password, secret); err != nil {
		t.Fatal(err)
	}
	if err := page.SignIn(ctx, profile.Login{User: "keeper", Password: "wrong"}); !errors.Is(err, driver.ErrLogin) {
		t.Errorf("a wrong password: %v", err)
	}
	if err := page.SignIn(ctx, profile.Login{User: "keeper", Password: "CorrectHorse9"}); err != nil {
		t.Fatal(err)
	}
	if facts, err = page.Do(ctx, profile.Read, nil); err != nil || facts["name"] != "hall-sw-01" ||
		facts["mask"] != "255.255.252.0" || facts["serial"] != device.Serial {
		t.Errorf("%v, %v", facts, err)
	}
	if len(page.Servers()) != 1 {
		t.Error("no certificate was seen")
	}
	if _, err := page.Do(ctx, profile.FactoryEntry, nil); !errors.Is(err, driver.ErrLogin) {
		t.Errorf("the first-use page is still open: %v", err)
	}
	if device.Saved() != fs8.Factory {
		t.Error("something was saved before it was asked for")
	}
	// The power cut comes before saving: everything is forgotten.
	starts := device.Starts()
	device.Restart()
	for device.Starts() == starts {
		if _, err := w.Find(ctx, nil, true); err != nil {
			t.Fatal(err)
		}
	}
	if device.Running() != fs8.Factory {
		t.Errorf("after the power cut it has %+v", device.Running())
	}
}

// A camera refuses everything until its password was changed.
func TestACameraWantsItsPasswordFirst(t *testing.T) {
	device, _, client := one(t, "C20", "ovalis-c20")
	ctx := patient(t)
	camera := client("192.168.77.20")
	if facts, err := camera.Do(ctx, profile.Identify, nil); err != nil || facts["serial"] != device.Serial {
		t.Fatalf("%v, %v", facts, err)
	}
	if _, err := camera.Do(ctx, profile.Read, nil); !errors.Is(err, driver.ErrLogin) {
		t.Errorf("without signing in: %v", err)
	}
	if err := camera.SignIn(ctx, profile.Login{User: c20.User, Password: c20.FactoryPassword}); err != nil {
		t.Fatal(err)
	}
	_, err := camera.Do(ctx, profile.Name, numbers)
	if err == nil || !strings.Contains(err.Error(), "change the factory password first") ||
		problem.KindOf(err) != problem.Device {
		t.Errorf("a name before the password: %v", err)
	}
	if !strings.HasPrefix(err.Error(), device.MAC.String()) {
		t.Errorf("the error does not name the device: %v", err)
	}
	for _, c := range [][2]string{{"short", "10 to 20"}, {"ovalisOVALIS1", "must not contain the word"},
		{"CorrectHorse9", ""}} {
		password, want := c[0], c[1]
		_, err := camera.Do(ctx, profile.Password, map[string]string{"old-password": c20.FactoryPassword,
			"password": password})
		if (want == "") != (err == nil) || err != nil && (!strings.Contains(err.Error(), want) ||
			strings.Contains(err.Error(), password)) {
			t.Errorf("%d characters: %v, want %q", len(password), err, want)
		}
	}
	if _, err := camera.Do(ctx, profile.Name, numbers); !errors.Is(err, driver.ErrLogin) {
		t.Errorf("the old login still works: %v", err)
	}
}

func TestABoxThatIsNotThere(t *testing.T) {
	_, b, _ := one(t, "C20", "ovalis-c20")
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	gone := driver.New(b, driver.Target{MAC: address.MAC{6, 0x46, 0x4e, 9, 9, 9}, Profile: set["fennmark-fs8"]})
	defer gone.Close()
	if _, err := gone.Do(patient(t), profile.Identify, nil); err == nil ||
		!strings.Contains(err.Error(), "does not answer over DCP") {
		t.Errorf("%v", err)
	}
}

// What it asks of a box is asked as a device at that address is: where its own
// subnet is full, one whose mask is wider still has room beside it.
func TestUpTimeIsAskedAsOfADeviceAtThatAddress(t *testing.T) {
	device, b, _ := one(t, "C20", "ovalis-c20")
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	at := device.Running().Address.Addr()
	full := netip.PrefixFrom(at, 29).Masked()
	tell := driver.Teller(b, set["ovalis-c20"], func(asked netip.Addr) driver.Target {
		target := driver.Target{MAC: device.MAC, Address: asked, Bits: 29, Profile: set["ovalis-c20"],
			Avoid: full.Contains}
		if asked == at {
			target.Bits = 24
		}
		return target
	}, nil)
	if facts, err := tell(patient(t), at); err != nil || facts["uptime"] == "" {
		t.Errorf("%v, %v", facts, err)
	}
	if _, err := tell(patient(t), at.Next()); err == nil || !strings.Contains(err.Error(), "is free to talk from") {
		t.Errorf("%v", err)
	}
}
