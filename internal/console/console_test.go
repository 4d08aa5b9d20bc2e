package console_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/standin"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

var ctx = context.Background()

const value = "the-glass-owl-sings-at-noon"

// script is what must never run, in a place where people type text.
const script = `<img src=x onerror="document.title='executed'"><script>document.title='executed'</script>`

// filled is a service with a project as the console shows it.
func filled(t *testing.T) *testkit.Service {
	t.Helper()
	s := testkit.Start(t)
	owner := s.Owner(t)
	_, err := owner.AddProject(ctx, "loans")
	require.NoError(t, err)
	for _, e := range []wire.NewEnvironment{{Name: "staging"}, {Name: "live"}, {Name: "preview", Follows: "staging"}} {
		_, err = owner.AddEnvironment(ctx, "loans", e)
		require.NoError(t, err)
	}
	keep := func(p client.Place, reason string, edits ...wire.Edit) {
		_, err := owner.Change(ctx, p, client.AnyRevision, wire.ChangeRequest{Reason: reason, Edits: edits})
		require.NoError(t, err)
	}
	keep(client.Place{}, "", wire.Edit{Name: "TIMEZONE", Kind: "setting", Value: "Europe/Dublin"})
	keep(client.Place{Project: "loans"}, "", wire.Edit{Name: "PAGE_SIZE", Kind: "setting", Value: script})
	keep(client.Place{Project: "loans", Environment: "live"}, script, wire.Edit{Name: "DB_PASSWORD", Kind: "secret", Value: value}, wire.Edit{Name: "TIMEZONE", Kind: "nothing"}, wire.Edit{Name: "ONLY_LIVE", Kind: "setting", Value: "x"})
	keep(client.Place{Project: "loans", Environment: "staging"}, "", wire.Edit{Name: "DB_PASSWORD", Kind: "secret", Value: "other"})
	return s
}

func signIn(t *testing.T, b *testkit.Browser, s *testkit.Service, login, password string) {
	t.Helper()
	b.Do(t, chromedp.Navigate(s.URL), chromedp.WaitVisible(chromedp.CSS("input[name=username]")),
		chromedp.SendKeys(chromedp.CSS("input[name=username]"), login), chromedp.SendKeys(chromedp.CSS("input[name=password]"), password),
		chromedp.Click(chromedp.CSS("button[type=submit]")))
}

func TestTheConsole(t *testing.T) {
	s := filled(t)
	b := testkit.NewBrowser(t)

	t.Run("a wrong password is told, and the field is emptied", func(t *testing.T) {
		signIn(t, b, s, testkit.OwnerLogin, "not the password")
		b.Until(t, "document.querySelector('[role=alert]')")
		assert.Contains(t, b.Text(t), "The name, the password or the code is wrong.")
		assert.Empty(t, testkit.Ask[string](t, b, "document.querySelector('input[name=password]').value"))
	})

	t.Run("signing in leads to the entries, each state a word", func(t *testing.T) {
		signIn(t, b, s, testkit.OwnerLogin, testkit.OwnerPassword)
		b.Until(t, "document.querySelector('table')")
		text := b.Text(t)
		for _, want := range []string{"Entries of loans", "set here", "from staging", "from project", "from organization", "set to nothing", "missing", "preview follows staging", "secret, version 1"} {
			assert.Contains(t, text, want)
		}
		assert.Contains(t, testkit.Ask[string](t, b, "location.pathname"), "/projects/loans/entries")
		b.Console() // the browser itself notes the requests that were refused before the sign-in
	})

	t.Run("a filter stays in the address", func(t *testing.T) {
		b.Do(t, chromedp.KeyEvent("/"))
		b.Until(t, "document.activeElement === document.querySelector('[data-testid=filter]')")
		// The protocol types the slash into the field that has the focus by then,
		// which a keyboard does not.
		b.Do(t, chromedp.KeyEvent("\b"), chromedp.KeyEvent("db_"))
		b.Until(t, "document.querySelector('[data-testid=filter]').value === 'db_'")
		b.Until(t, "document.querySelectorAll('tbody tr').length === 1")
		assert.Contains(t, testkit.Ask[string](t, b, "location.search"), "filter=db_")
	})

	t.Run("a sheet has its own address, and no value until it is asked for", func(t *testing.T) {
		b.Do(t, chromedp.Click(chromedp.CSS("a[aria-label='DB_PASSWORD in live']")), chromedp.WaitVisible(chromedp.CSS("[data-testid=reference]")))
		assert.Equal(t, "/projects/loans/environments/live/entries/DB_PASSWORD", testkit.Ask[string](t, b, "location.pathname"))
		b.Until(t, "document.querySelector('[data-testid=sheet]').innerText.includes('active')")
		assert.Contains(t, b.Text(t), "adytum:DB_PASSWORD")
		assert.NotContains(t, b.HTML(t), value)

		b.Do(t, chromedp.Click(chromedp.CSS("[data-testid=show-value]")), chromedp.WaitVisible(chromedp.CSS("[data-testid=value]")))
		assert.Equal(t, value, testkit.Ask[string](t, b, "document.querySelector('[data-testid=value]').textContent"))
		assert.Regexp(t, `hidden again in (20|19|18|17) s`, b.Text(t))
		for _, place := range []string{"location.href", "document.title", "JSON.stringify(localStorage) + JSON.stringify(sessionStorage)", "JSON.stringify(history.state)"} {
			assert.NotContains(t, testkit.Ask[string](t, b, place), value, place)
		}
		testkit.Ask[any](t, b, "Object.defineProperty(document, 'hasFocus', { value: () => false }), window.dispatchEvent(new Event('blur')), null")
		b.Until(t, "!document.querySelector('[data-testid=value]')")
		assert.NotContains(t, b.HTML(t), value, "hidden when the window loses the focus")
		b.Do(t, chromedp.KeyEvent("\x1b"))
		b.Until(t, "!document.querySelector('[data-testid=sheet]')")
	})

	t.Run("what was shown is in the trail, which verifies", func(t *testing.T) {
		b.Do(t, chromedp.Navigate(s.URL+"/trail"), chromedp.WaitVisible(chromedp.CSS("table")))
		b.Until(t, "document.body.innerText.includes('entry.value')")
		b.Do(t, chromedp.Click(chromedp.CSS("[data-testid=verify]")))
		b.Until(t, "document.querySelector('[data-testid=verification]')?.innerText.includes('whole')")
	})

	t.Run("text that people typed is text", func(t *testing.T) {
		b.Do(t, chromedp.Navigate(s.URL+"/projects/loans/environments/live/entries/PAGE_SIZE"), chromedp.WaitVisible(chromedp.CSS("[data-testid=reference]")))
		b.Until(t, "document.querySelector('[data-testid=sheet]').innerText.includes('onerror')")
		b.Do(t, chromedp.Navigate(s.URL+"/projects/loans/environments/live/entries/DB_PASSWORD"), chromedp.WaitVisible(chromedp.CSS("[data-testid=reference]")))
		b.Until(t, "document.querySelector('[data-testid=sheet]').innerText.includes('onerror')")
		assert.Equal(t, "Adytum", testkit.Ask[string](t, b, "document.title"))
	})

	t.Run("nothing from elsewhere, and nothing said on the browser's console", func(t *testing.T) {
		loaded := testkit.Ask[[]string](t, b, "performance.getEntriesByType('resource').map(e => e.name)")
		for _, address := range loaded {
			assert.True(t, strings.HasPrefix(address, s.URL+"/"), address)
		}
		assert.Empty(t, b.Console())
	})

	t.Run("signing out ends the session", func(t *testing.T) {
		b.Do(t, chromedp.Click(chromedp.CSS("[data-testid=person]")), chromedp.WaitVisible(chromedp.CSS("[data-testid=sign-out]")), chromedp.Click(chromedp.CSS("[data-testid=sign-out]")))
		b.Until(t, "location.pathname === '/sign-in'")
		b.Do(t, chromedp.Navigate(s.URL+"/projects/loans/entries"))
		b.Until(t, "location.pathname === '/sign-in'")
	})
}

func TestWhoMayNotReadIsToldAndShownNothing(t *testing.T) {
	s := filled(t)
	owner := s.Owner(t)
	_, err := owner.AddPerson(ctx, wire.NewPerson{Login: "priya@fernhollow.example", Name: "Priya Vantongeren", Password: "a long enough password"})
	require.NoError(t, err)
	_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "observer", Project: "loans", Environment: "live"})
	require.NoError(t, err)
	b := testkit.NewBrowser(t)
	signIn(t, b, s, "priya@fernhollow.example", "a long enough password")
	b.Until(t, "document.querySelector('table')")
	assert.NotContains(t, b.Text(t), "staging", "an environment that they may not know of")
	assert.NotContains(t, b.Text(t), "Trail")
	b.Do(t, chromedp.Navigate(s.URL+"/projects/loans/environments/live/entries/DB_PASSWORD"), chromedp.WaitVisible(chromedp.CSS("[data-testid=show-value]")), chromedp.Click(chromedp.CSS("[data-testid=show-value]")))
	b.Until(t, "document.body.innerText.includes('may not read DB_PASSWORD in loans/live')")
	assert.NotContains(t, b.HTML(t), value)
	b.Do(t, chromedp.Navigate(s.URL+"/projects/loans/environments/staging/entries/DB_PASSWORD"))
	b.Until(t, `document.body.innerText.includes('no environment "staging"')`)
}

func TestThePagesWorkNarrowAndByKeyboard(t *testing.T) {
	s := filled(t)
	b := testkit.NewBrowser(t)
	signIn(t, b, s, testkit.OwnerLogin, testkit.OwnerPassword)
	b.Until(t, "document.querySelector('table')")
	for _, width := range []int64{360, 390, 768, 1280} {
		b.Do(t, chromedp.EmulateViewport(width, 800))
		for _, path := range []string{"/projects/loans/entries", "/projects/loans/environments/live/entries/DB_PASSWORD", "/trail"} {
			b.Do(t, chromedp.Navigate(s.URL+path), chromedp.WaitVisible(chromedp.CSS("h1")))
			b.Until(t, "document.querySelector('table')")
			assert.LessOrEqual(t, testkit.Ask[int](t, b, "document.documentElement.scrollWidth"), int(width), "%s at %d px does not scroll sideways", path, width)
		}
	}
	b.Do(t, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.URL+"/projects/loans/entries"), chromedp.WaitVisible(chromedp.CSS("table")))
	reached := map[string]bool{}
	for range 14 {
		b.Do(t, chromedp.KeyEvent("\t"))
		reached[testkit.Ask[string](t, b, "document.activeElement.getAttribute('data-testid') ?? document.activeElement.getAttribute('aria-label') ?? document.activeElement.innerText")] = true
	}
	for _, want := range []string{"place", "person", "filter", "DB_PASSWORD in live"} {
		assert.True(t, reached[want], "%s is reached by the tab key: %v", want, reached)
	}
}

func TestWhereASignInLeads(t *testing.T) {
	s := filled(t)
	b := testkit.NewBrowser(t)
	enter := func() {
		b.Do(t, chromedp.WaitVisible(chromedp.CSS("input[name=username]")), chromedp.SendKeys(chromedp.CSS("input[name=username]"), testkit.OwnerLogin),
			chromedp.SendKeys(chromedp.CSS("input[name=password]"), testkit.OwnerPassword), chromedp.Click(chromedp.CSS("button[type=submit]")))
	}
	// A link that was sent leads to its place after the sign-in.
	b.Do(t, chromedp.Navigate(s.URL+"/projects/loans/environments/live/entries/DB_PASSWORD"))
	enter()
	b.Until(t, "location.pathname === '/projects/loans/environments/live/entries/DB_PASSWORD' && document.querySelector('[data-testid=sheet]')")

	// A session that was ended elsewhere leads to the sign-in and back.
	owner := s.Owner(t)
	testkit.Ask[any](t, b, "fetch('/api/v1/console/session', { method: 'DELETE' }).then(() => { window.ended = true }), null")
	b.Until(t, "window.ended")
	b.Do(t, chromedp.Navigate(s.URL+"/trail"))
	b.Until(t, "location.pathname === '/sign-in' && location.search.includes('trail')")
	_, err := owner.Who(ctx)
	assert.NoError(t, err, "other sessions of the same person go on")

	// Never to another site.
	for _, to := range []string{"https://elsewhere.example/", "//elsewhere.example", "/\\elsewhere.example", "javascript:alert(1)"} {
		b.Do(t, chromedp.Navigate(s.URL+"/sign-in?to="+to))
		enter()
		b.Until(t, "document.querySelector('table')")
		assert.True(t, strings.HasPrefix(testkit.Ask[string](t, b, "location.href"), s.URL+"/"), to)
	}
}

func TestAnInvitedPersonChoosesAPasswordAndSignsInWithACode(t *testing.T) {
	s := filled(t)
	owner := s.Owner(t)
	p, err := owner.AddPerson(ctx, wire.NewPerson{Login: "abel@fernhollow.example", Name: "Abel Marsh"})
	require.NoError(t, err)
	const password = "a lantern above the harbour"
	b := testkit.NewBrowser(t)
	choose := func(first, second string) {
		testkit.Ask[any](t, b, `document.querySelectorAll("input[name=new-password], input[name=again]").forEach((i) => { i.value = ""; i.dispatchEvent(new Event("input")) }), null`)
		b.Do(t, chromedp.SendKeys(chromedp.CSS("input[name=new-password]"), first), chromedp.SendKeys(chromedp.CSS("input[name=again]"), second), chromedp.Click(chromedp.CSS("button[type=submit]")))
	}
	b.Do(t, chromedp.Navigate(s.URL+"/welcome#"+p.Invitation))
	b.Until(t, "document.querySelector('input[name=invitation]')?.value.startsWith('adyt_i_')")
	assert.Empty(t, testkit.Ask[string](t, b, "location.hash"), "the invitation does not stay in the address")
	assert.NotContains(t, testkit.Ask[string](t, b, "JSON.stringify(history.state)"), "adyt_i_")
	choose(password, "a lantern above the harbor")
	b.Until(t, "document.querySelector('[role=alert]')?.textContent.includes('not the same')")
	choose("passwordpassword", "passwordpassword")
	b.Until(t, "document.querySelector('[role=alert]')?.textContent.includes('many people choose')")
	choose(password, password)
	b.Until(t, "location.pathname === '/' && document.body.innerText.includes('Abel Marsh')")

	c := s.Client(t, "abel@fernhollow.example", password)
	f, err := c.BeginCode(ctx)
	require.NoError(t, err)
	at := time.Now()
	code := func(at time.Time) string {
		code, err := totp.GenerateCode(f.Secret, at)
		require.NoError(t, err)
		return code
	}
	_, err = c.ConfirmCode(ctx, code(at))
	require.NoError(t, err)
	other := testkit.NewBrowser(t)
	enter := func(code string) {
		other.Do(t, chromedp.Navigate(s.URL+"/sign-in"), chromedp.WaitVisible(chromedp.CSS("input[name=code]")), chromedp.SendKeys(chromedp.CSS("input[name=username]"), "abel@fernhollow.example"),
			chromedp.SendKeys(chromedp.CSS("input[name=password]"), password), chromedp.SendKeys(chromedp.CSS("input[name=code]"), code), chromedp.Click(chromedp.CSS("button[type=submit]")))
	}
	enter("000000")
	other.Until(t, "document.querySelector('[role=alert]')?.textContent.includes('the code is wrong')")
	enter(code(at.Add(30 * time.Second)))
	other.Until(t, "location.pathname === '/' && document.body.innerText.includes('Abel Marsh')")
}

func TestSigningInThroughAProviderAndLettingADeviceIn(t *testing.T) {
	s := filled(t)
	owner := s.Owner(t)
	p := testkit.NewProvider(t, standin.Person{Email: "noor@fernhollow.example", Name: "Noor Castellane"}, standin.Person{Email: "nobody@fernhollow.example", Name: "Nobody here"})
	_, err := owner.AddProvider(ctx, wire.NewProvider{Name: "fernhollow", URL: p.URL, ClientID: p.ClientID, ClientSecret: p.ClientSecret})
	require.NoError(t, err)
	_, err = owner.AddPerson(ctx, wire.NewPerson{Login: "noor@fernhollow.example", Name: "Noor Castellane", Provider: "fernhollow"})
	require.NoError(t, err)
	b := testkit.NewBrowser(t)
	through := func(as string) {
		b.Until(t, "document.querySelector('a[href*=\"providers/fernhollow\"]')")
		b.Do(t, chromedp.Click(chromedp.CSS(`a[href*="providers/fernhollow"]`)))
		b.Until(t, "document.title === 'Fernhollow accounts'")
		b.Do(t, chromedp.Click(chromedp.CSS(`button[value="`+as+`"]`)))
	}
	b.Do(t, chromedp.Navigate(s.URL+"/device"))
	through("nobody@fernhollow.example")
	b.Until(t, "document.querySelector('[role=alert]')?.textContent.includes('does not let you in here')")
	b.Do(t, chromedp.Navigate(s.URL+"/device"))
	through("noor@fernhollow.example")
	b.Until(t, "location.pathname === '/device' && document.body.innerText.includes('Noor Castellane')")

	device, err := client.New(s.URL)
	require.NoError(t, err)
	asked, err := device.AskDevice(ctx, script)
	require.NoError(t, err)
	code := func(text string) {
		testkit.Ask[any](t, b, `document.querySelectorAll("input[name=code]").forEach((i) => { i.value = ""; i.dispatchEvent(new Event("input")) }), null`)
		b.Do(t, chromedp.SendKeys(chromedp.CSS("input[name=code]"), text), chromedp.Click(chromedp.CSS("button[type=submit]")))
	}
	code("BBBB-BBBB")
	b.Until(t, "document.querySelector('[role=alert]')?.textContent.includes('No device waits with this code')")
	code(strings.ToLower(asked.UserCode))
	b.Until(t, "document.body.innerText.includes('the address that you have')")
	assert.NotEqual(t, "executed", testkit.Ask[string](t, b, "document.title"), "what a device calls itself is text")
	b.Do(t, chromedp.Click(chromedp.CSS("main button.act-main")))
	b.Until(t, "document.querySelector('[role=status]')?.textContent.includes('let in as you')")
	_, err = device.TakeDevice(ctx, asked.DeviceCode)
	require.NoError(t, err)
	who, err := device.Who(ctx)
	require.NoError(t, err)
	assert.Equal(t, "noor@fernhollow.example", who.Login)

	// The token ends after an hour; the console goes on by itself while the account
	// is there, and not when it is gone.
	s.Later(2 * time.Hour)
	b.Do(t, chromedp.Navigate(s.URL+"/device"))
	b.Until(t, "location.pathname === '/device' && document.body.innerText.includes('Noor Castellane')")
	// A sign-in that went on is no fresh one.
	asked, err = device.AskDevice(ctx, "desk")
	require.NoError(t, err)
	code(asked.UserCode)
	b.Until(t, "document.body.innerText.includes('the address that you have')")
	b.Do(t, chromedp.Click(chromedp.CSS("main button.act-main")))
	b.Until(t, "document.querySelector('[role=alert]')?.textContent.includes('sign in again') || document.querySelector('[role=alert]')?.textContent.includes('Sign in again')")
	p.Close("noor@fernhollow.example")
	s.Later(2 * time.Hour)
	b.Do(t, chromedp.Navigate(s.URL+"/device"))
	b.Until(t, "location.pathname === '/sign-in'")
}

func TestLightAndDarkAndEmptyPages(t *testing.T) {
	s := testkit.Start(t)
	b := testkit.NewBrowser(t)
	signIn(t, b, s, testkit.OwnerLogin, testkit.OwnerPassword)
	b.Until(t, "document.body.innerText.includes('There is no project here for you yet')")
	assert.Contains(t, b.Text(t), "adytum project add NAME", "what to do first, with the command to copy")

	background := func() string { return testkit.Ask[string](t, b, "getComputedStyle(document.body).backgroundColor") }
	light := background()
	choose := func(word string) {
		b.Do(t, chromedp.Click(chromedp.CSS("[data-testid=person]")))
		b.Until(t, "[...document.querySelectorAll('button')].find(b => b.innerText.endsWith('"+word+"'))")
		testkit.Ask[any](t, b, "[...document.querySelectorAll('button')].find(b => b.innerText.endsWith('"+word+"')).click(), null")
	}
	choose("Dark")
	b.Until(t, "document.documentElement.dataset.theme === 'dark'")
	dark := background()
	assert.NotEqual(t, light, dark)
	b.Do(t, chromedp.Navigate(s.URL+"/nowhere"), chromedp.WaitVisible(chromedp.CSS("h1")))
	b.Until(t, "document.body.innerText.includes('There is no page at this address')")
	assert.Equal(t, dark, background(), "the choice is kept")

	_, err := s.Owner(t).AddProject(ctx, "empty")
	require.NoError(t, err)
	b.Do(t, chromedp.Navigate(s.URL+"/projects/empty/entries"))
	b.Until(t, "document.body.innerText.includes('empty has no entries yet')")
	b.Do(t, chromedp.Navigate(s.URL+"/projects/none/entries"))
	b.Until(t, `document.body.innerText.includes('There is no project "none"')`)
}

// Text against what lies behind it, as WCAG 2.2 measures contrast.
func TestContrastInBothThemes(t *testing.T) {
	s := filled(t)
	b := testkit.NewBrowser(t)
	signIn(t, b, s, testkit.OwnerLogin, testkit.OwnerPassword)
	b.Until(t, "document.querySelector('table')")
	const measure = `(() => {
		const channel = v => (v /= 255) <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4
		const luminance = c => { const [r, g, b] = c.match(/[\d.]+/g).map(Number); return 0.2126 * channel(r) + 0.7152 * channel(g) + 0.0722 * channel(b) }
		const behind = e => { for (; e; e = e.parentElement) { const c = getComputedStyle(e).backgroundColor; if (!/, 0\)$|transparent/.test(c)) return c } return 'rgb(255,255,255)' }
		const low = []
		for (const e of document.querySelectorAll('body *')) {
			if (![...e.childNodes].some(n => n.nodeType === 3 && n.textContent.trim()) || !e.getClientRects().length) continue
			const [a, b] = [luminance(getComputedStyle(e).color), luminance(behind(e))].sort((x, y) => y - x)
			if ((a + 0.05) / (b + 0.05) < 4.5) low.push(e.tagName + ' ' + e.textContent.trim().slice(0, 30))
		}
		return low
	})()`
	for _, theme := range []string{"light", "dark"} {
		for _, path := range []string{"/projects/loans/environments/live/entries/DB_PASSWORD", "/trail"} {
			b.Do(t, chromedp.Navigate(s.URL+path), chromedp.WaitVisible(chromedp.CSS("table")))
			testkit.Ask[string](t, b, "document.documentElement.dataset.theme = '"+theme+"'")
			assert.Empty(t, testkit.Ask[[]string](t, b, measure), "%s in %s", path, theme)
		}
	}
}
