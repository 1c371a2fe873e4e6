// Package browser starts headless Chromium for tests of the console and for
// the pictures in the documentation.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// ErrMissing says that there is no Chromium on this computer.
var ErrMissing = errors.New("no Chromium is installed: apt-get install chromium-headless-shell")

// Start starts a browser with an empty profile for pages that Page opens. It
// talks to nobody but the pages it is told to load.
func Start(ctx context.Context, more ...chromedp.ExecAllocatorOption) (context.Context, context.CancelFunc, error) {
	path, err := exec.LookPath("chromium-headless-shell") // needs half of what the whole browser needs
	if err != nil {
		path, err = exec.LookPath("chromium")
	}
	if err != nil {
		return nil, nil, ErrMissing
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.WSURLReadTimeout(time.Minute),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("force-prefers-reduced-motion", true), // the console then moves nothing
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.*"),
	)
	allocator, stopAllocator := chromedp.NewExecAllocator(ctx, append(options, more...)...)
	browser, stopBrowser := chromedp.NewContext(allocator)
	stop := func() {
		stopBrowser()
		stopAllocator()
	}
	if err := chromedp.Do(browser, chromedp.Steps()); err != nil {
		stop()
		return nil, nil, err
	}
	return browser, stop, nil
}

// Page opens a page of the given size in pixels in a started browser, with cookies
// and storage of its own.
func Page(browser context.Context, width, height int) (context.Context, context.CancelFunc, error) {
	page, stop := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	// Pages have the focus, as before a person, also when another tab was opened.
	focused := chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetFocusEmulationEnabled,
			emulation.SetFocusEmulationEnabledParams{Enabled: true})
		return err
	})
	if err := chromedp.Do(page, chromedp.EmulateViewport(int64(width), int64(height)), focused); err != nil {
		stop()
		return nil, nil, err
	}
	return page, stop, nil
}

// Open starts a browser of its own for one page.
func Open(ctx context.Context, width, height int, more ...chromedp.ExecAllocatorOption) (context.Context,
	context.CancelFunc, error) {
	browser, stopBrowser, err := Start(ctx, more...)
	if err != nil {
		return nil, nil, err
	}
	page, stopPage, err := Page(browser, width, height)
	if err != nil {
		stopBrowser()
		return nil, nil, err
	}
	return page, func() {
		stopPage()
		stopBrowser()
	}, nil
}

// Mark is the selector of an element that the console marks for tests.
func Mark(name string) chromedp.CSS { return chromedp.CSS(`[data-test="` + name + `"]`) }

// Step is something to do in the browser that gives no value.
type Step = chromedp.Action[chromedp.Void]

// Seen waits until an element is there and visible.
func Seen[S Selector](what S) Step { return until(found(what) + ".some(" + visible + ")") }

// Gone waits until no such element is there.
func Gone[S Selector](what S) Step { return until("!" + found(what) + ".length") }

// Selector is a CSS selector, or an XPath as a search.
type Selector interface{ chromedp.CSS | chromedp.Search }

const visible = `e => e.checkVisibility({ visibilityProperty: true }) && e.getBoundingClientRect().width`

// found is a script that lists the elements of a selector.
func found[S Selector](what S) string {
	if _, path := any(what).(chromedp.Search); path {
		return fmt.Sprintf(`(r => Array.from({ length: r.snapshotLength }, (_, i) => r.snapshotItem(i)))(document.evaluate(%q, document, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null))`, what)
	}
	return fmt.Sprintf(`[...document.querySelectorAll(%q)]`, what)
}

// until waits in the page until a condition holds there: it looks again when the page was
// changed, and now and then, since styles change without.
func until(condition string) Step {
	script := `new Promise(done => {
		let soon = 0
		const look = () => {
			soon = 0
			if (!(` + condition + `)) return
			watched.disconnect()
			clearInterval(styles)
			done(true)
		}
		const later = () => { soon ||= setTimeout(look, 20) }
		const watched = new MutationObserver(later)
		watched.observe(document, { subtree: true, childList: true, attributes: true, characterData: true })
		const styles = setInterval(later, 250)
		look()
	})`
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		for {
			_, err := chromedp.Evaluate[bool](script, chromedp.EvalAwaitPromise)(ctx, t)
			var mistake *chromedp.ExceptionError
			if err == nil || ctx.Err() != nil || errors.As(err, &mistake) {
				return chromedp.Void{}, err
			}
			select { // the page that waited was left for another
			case <-ctx.Done():
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
}

// Enabled waits until an element takes input.
func Enabled[S Selector](what S) Step { return until(found(what) + ".some(e => !e.disabled)") }

// Script runs a script in the page for what it does.
func Script(text string) Step {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[bool]("("+text+", true)")(ctx, t)
		return chromedp.Void{}, err
	}
}

// Press clicks what the console marks, once it can be clicked.
func Press(name string) Step { return Click(Mark(name)) }

// Click clicks the first visible element that a selector finds, once it is
// enabled, stands still from one look to the next and nothing lies over it.
// The last look and the click are one step of the page's own script: a click at
// a place, some time after the place was asked for, may meet another element.
func Click[S Selector](what S) Step {
	script := `new Promise(done => {
		let last = ''
		const timer = setInterval(() => {
			const e = ` + found(what) + `.find(` + visible + `)
			if (!e || e.disabled || e.getAttribute('aria-disabled') === 'true') return
			const r = e.getBoundingClientRect()
			const x = r.x + r.width / 2, y = r.y + r.height / 2
			const hit = document.elementFromPoint(x, y)
			if (!hit) return e.scrollIntoView({ block: 'center', inline: 'center' })
			const now = [r.x, r.y, r.width, r.height].join()
			const still = now === last
			last = now
			if (!still || !e.contains(hit)) return
			clearInterval(timer)
			const at = { bubbles: true, cancelable: true, composed: true, view: window, detail: 1, clientX: x, clientY: y }
			hit.dispatchEvent(new PointerEvent('pointerdown', at))
			if (hit.dispatchEvent(new MouseEvent('mousedown', at))) hit.closest('a, button, input, textarea, select, [tabindex]')?.focus()
			hit.dispatchEvent(new PointerEvent('pointerup', at))
			hit.dispatchEvent(new MouseEvent('mouseup', at))
			hit.dispatchEvent(new MouseEvent('click', at))
			done(true)
		}, 40)
	})`
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[bool](script, chromedp.EvalAwaitPromise)(ctx, t)
		return chromedp.Void{}, err
	}
}

// Answer presses a button of a dialog and waits until the dialog is gone, with
// the veil that it lays over the page and that takes clicks for itself.
func Answer(name string) Step {
	return chromedp.Steps(Press(name), Gone(Mark(name)), Gone(chromedp.CSS(".n-modal-mask")))
}

// Ended waits until the console shows that work of a kind, by its title, is done.
func Ended(title string) Step {
	return Seen(chromedp.Search(`//*[@data-test="work" and @data-state="done"]/strong[contains(text(), "` + title +
		`")]`))
}
