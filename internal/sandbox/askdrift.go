package sandbox

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"andamio/internal/site/occi/wire"
	"andamio/internal/web"
)

// driftClient asks stand-ins to change.
var driftClient = web.Client(30*time.Second, nil)

// AskDrift asks a stand-in that may be another process's to change by itself. Only a stand-in may be asked: it is sent the
// credential.
func AskDrift(ctx context.Context, name, address, credential string, want DriftRequest) ([]Drifted, error) {
	body, err := json.Marshal(want)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address+wire.PathDrift, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set(wire.HeaderToken, "Bearer "+credential)
	resp, err := driftClient.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%s does not answer: %w", name, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s is no stand-in, or does not let this credential: %s", name, resp.Status)
	}
	var out []Drifted
	return out, json.NewDecoder(resp.Body).Decode(&out)
}
