// Package chromium opens Debian's headless Chromium for tests of the console. It is for
// tests alone: it drives nothing itself.
//
//	ctx := chromium.Open(t)
//	err := chromedp.Do(ctx, chromedp.Navigate(url))
package chromium

import (
	"context"
	"os"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// Open gives a page of a new Chromium, 1280 by 800.
func Open(t testing.TB) context.Context {
	path := "/usr/bin/chromium"
	if _, err := os.Stat(path); err != nil {
		t.Skip("SKIPPED: chromium is not installed; scripts/setup test installs it")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.UserDataDir(t.TempDir()),
		chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.WindowSize(1280, 800))
	ctx, cancel := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 10*time.Minute)
	t.Cleanup(cancel)
	return ctx
}
