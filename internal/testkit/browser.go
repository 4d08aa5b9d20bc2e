package testkit

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// OpenBrowser starts headless Chromium with a profile of its own. The browser
// ends with the returned function.
func OpenBrowser(ctx context.Context, profile string) (context.Context, func() error, error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.Flag("headless", "new"),
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-quic", true),
		chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800))
	allocated, endAllocator := chromedp.NewExecAllocator(ctx, options...)
	browser, endBrowser := chromedp.NewContext(allocated)
	stop := func() error {
		err := chromedp.Cancel(browser)
		endBrowser()
		endAllocator()
		return err
	}
	// The first call starts the browser and takes a context without a timeout,
	// since the browser ends with it.
	if err := chromedp.Do(browser, chromedp.EmulateViewport(1280, 800)); err != nil {
		return nil, nil, errors.Join(err, stop())
	}
	return browser, stop, nil
}

// Browser is a browser for a test, with what its page writes to its console.
type Browser struct {
	ctx     context.Context
	console chan string
}

// NewBrowser starts a browser for a test.
func NewBrowser(t testing.TB) *Browser {
	t.Helper()
	profile, err := os.MkdirTemp("", "adytum-browser-*")
	require.NoError(t, err)
	ctx, stop, err := OpenBrowser(context.Background(), profile)
	require.NoError(t, err)
	t.Cleanup(func() { _ = stop(); _ = os.RemoveAll(profile) })
	b := &Browser{ctx: ctx, console: make(chan string, 1000)}
	messages := chromedp.Console(ctx)
	go func() {
		for m, err := range messages {
			if err != nil {
				return
			}
			select {
			case b.console <- m.String():
			default:
			}
		}
	}()
	return b
}

// stepTime bounds the wait for what a page is to show.
const stepTime = 20 * time.Second

// Do runs steps in the page.
func (b *Browser) Do(t testing.TB, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, stepTime)
	defer cancel()
	require.NoError(t, chromedp.Do(ctx, steps...))
}

// Ask evaluates an expression in the page.
func Ask[T any](t testing.TB, b *Browser, expression string) T {
	t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, stepTime)
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	require.NoError(t, err, expression)
	return v
}

// Until waits until an expression in the page is true.
func (b *Browser) Until(t testing.TB, expression string) {
	t.Helper()
	require.Eventually(t, func() bool {
		ctx, cancel := context.WithTimeout(b.ctx, 5*time.Second)
		defer cancel()
		v, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("Boolean("+expression+")"))
		return err == nil && v
	}, stepTime, 50*time.Millisecond, expression)
}

// Text is what the page shows.
func (b *Browser) Text(t testing.TB) string { return Ask[string](t, b, "document.body.innerText") }

// HTML is the page's whole document as it stands.
func (b *Browser) HTML(t testing.TB) string {
	return Ask[string](t, b, "document.documentElement.outerHTML")
}

// Console is what the page has written to its console so far, a line each.
func (b *Browser) Console() string {
	var all []string
	for {
		select {
		case m := <-b.console:
			all = append(all, m)
		default:
			return strings.Join(all, "\n")
		}
	}
}
