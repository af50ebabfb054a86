package tell

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"
)

// Event is what goes out as a CloudEvent (CloudEvents 1.0).
type Event struct {
	ID, Type, Subject string
	Time              time.Time
	Data              any
}

// client follows no redirection: an event goes where it was told to go.
var client = &http.Client{Timeout: 20 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// Post sends an event by the HTTP binding, in structured mode; signed, where it is not nil, gives
// further headers for the body. Errors name the receiver by its host alone: the rest of a URL may
// be a secret.
func Post(ctx context.Context, to string, e Event, signed func(body []byte) http.Header) error {
	body, err := json.Marshal(map[string]any{
		"specversion": "1.0", "type": e.Type, "source": "wladderd", "subject": e.Subject, "id": e.ID, "time": e.Time, "datacontenttype": "application/json", "data": e.Data,
	})
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, "POST", to, bytes.NewReader(body))
	if err != nil {
		return errors.New("the URL cannot be read")
	}
	if signed != nil {
		request.Header = signed(body)
	}
	request.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	response, err := client.Do(request)
	if err != nil {
		if call := (*url.Error)(nil); errors.As(err, &call) {
			err = call.Err
		}
		return fmt.Errorf("%s: %w", request.URL.Host, err)
	}
	defer response.Body.Close()
	io.Copy(io.Discard, io.LimitReader(response.Body, 64<<10))
	if response.StatusCode < 200 || response.StatusCode > 299 {
		return fmt.Errorf("%s answered %s", request.URL.Host, response.Status)
	}
	return nil
}
