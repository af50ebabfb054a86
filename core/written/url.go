package written

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
)

// PrivateURL refuses an address on whose way others could read and change what is said: it wants
// https, or http on loopback.
func PrivateURL(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return errors.New("is not a URL of https")
	}
	at, err := netip.ParseAddr(u.Hostname())
	if own := u.Hostname() == "localhost" || err == nil && at.IsLoopback(); u.Scheme == "http" && !own {
		return fmt.Errorf("%s can be read by others on the way; want https", u.Host)
	}
	return nil
}
