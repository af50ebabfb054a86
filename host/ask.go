package host

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"wladder/core/probe"
)

// maxBody is how much of a page a probe reads, in bytes.
const maxBody = 64 << 10

// AskNetwork puts an http or tcp question to the host at address (an IP or a
// name), on a connection of its own, past every cache.
func AskNetwork(ctx context.Context, address string, ask probe.Ask) probe.Answer {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	at := net.JoinHostPort(address, strconv.Itoa(ask.Port))
	if ask.Kind == probe.TCP {
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
		if err != nil {
			return probe.Answer{Failure: reason(err)}
		}
		defer conn.Close()
		conn.SetReadDeadline(time.Now().Add(500 * time.Millisecond))
		first := make([]byte, 256)
		n, _ := conn.Read(first)
		return probe.Answer{Connected: true, Banner: strings.TrimSpace(string(first[:n]))}
	}
	request, err := http.NewRequestWithContext(ctx, ask.Method, "http://"+at+ask.Path, nil)
	if err != nil {
		return probe.Answer{Failure: reason(err)}
	}
	if ask.Host != "" {
		request.Host = ask.Host
	}
	request.Header.Set("Cache-Control", "no-cache")
	request.Header.Set("User-Agent", "wladder-probe")
	client := http.Client{
		Transport:     &http.Transport{DisableKeepAlives: true, DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	response, err := client.Do(request)
	if err != nil {
		return probe.Answer{Failure: reason(err)}
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, maxBody))
	if err != nil {
		return probe.Answer{Failure: reason(err)}
	}
	headers := map[string]string{}
	for name, values := range response.Header {
		headers[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	return probe.Answer{Status: response.StatusCode, Headers: headers, Body: string(body), Connected: true}
}

// reason says a network error in the words of its last cause.
func reason(err error) string {
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() {
		return "no answer within the time allowed"
	}
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}

// Answer gives the unit in the form in which probes judge it.
func (u Unit) Answer() probe.Answer {
	return probe.Answer{State: u.State, Sub: u.Sub, Restarts: u.Restarts, Processes: u.Processes, Renewed: u.Renewed}
}
