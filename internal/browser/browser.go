// Package browser starts headless Chromium for tests of the console and for
// the pictures in the documentation.
package browser

import (
	"context"
	"errors"
	"os/exec"
	"time"

	"github.com/chromedp/chromedp"
)

// ErrMissing says that there is no Chromium on this computer.
var ErrMissing = errors.New("Chromium is not installed: apt-get install chromium")

// Open starts a browser with an empty profile and a window of the given size
// in pixels. It talks to nobody but the pages it is told to load.
func Open(ctx context.Context, width, height int, more ...chromedp.ExecAllocatorOption) (context.Context, context.CancelFunc, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, ErrMissing
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.WindowSize(width, height),
		chromedp.WSURLReadTimeout(time.Minute),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("force-prefers-reduced-motion", true), // the console then moves nothing
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE 127.0.0.2"),
	)
	allocator, stopAllocator := chromedp.NewExecAllocator(ctx, append(options, more...)...)
	browser, stopBrowser := chromedp.NewContext(allocator)
	stop := func() {
		stopBrowser()
		stopAllocator()
	}
	if err := chromedp.Do(browser, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		stop()
		return nil, nil, err
	}
	return browser, stop, nil
}

// Mark is the selector of an element that the console marks for tests.
func Mark(name string) chromedp.CSS { return chromedp.CSS(`[data-test="` + name + `"]`) }

// Step is something to do in the browser that gives no value.
type Step = chromedp.Action[chromedp.Void]

// Script runs a script in the page for what it does.
func Script(text string) Step {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[bool]("("+text+", true)")(ctx, t)
		return chromedp.Void{}, err
	}
}

// Press clicks what the console marks, once it can be clicked.
func Press(name string) Step {
	return chromedp.Steps(chromedp.WaitEnabled(Mark(name)), still(name), chromedp.Click(Mark(name)))
}

// still waits until an element stays where it is from one frame to the next: a
// click goes to a place, not to an element.
func still(name string) Step {
	script := `new Promise(done => {
		let last = ''
		const look = () => {
			const e = document.querySelector('[data-test="` + name + `"]')
			const r = e ? e.getBoundingClientRect() : {}
			const now = [r.x, r.y, r.width, r.height].join()
			if (e && now === last) return done(true)
			last = now
			requestAnimationFrame(look)
		}
		look()
	})`
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[bool](script, chromedp.EvalAwaitPromise)(ctx, t)
		return chromedp.Void{}, err
	}
}

// Answer presses a button of a dialog and waits until the dialog is gone, with
// the veil that it lays over the page and that takes clicks for itself.
func Answer(name string) Step {
	return chromedp.Steps(Press(name), chromedp.WaitNotPresent(Mark(name)), chromedp.WaitNotPresent(chromedp.CSS(".n-modal-mask")))
}

// Ended waits until the console shows that work of a kind, by its title, is done.
func Ended(title string) Step {
	return chromedp.WaitVisible(chromedp.Search(`//*[@data-test="activity" and @data-state="done"]/strong[contains(text(), "` + title + `")]`))
}
