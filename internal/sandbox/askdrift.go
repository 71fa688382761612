package sandbox

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"andamio/internal/site/occi/wire"
	"andamio/internal/web"
)

// driftClient asks stand-ins to change.
var driftClient = web.Client(30*time.Second, nil)

// AskDrift asks a stand-in that may be another process's to change by itself. Only a stand-in may be asked: it is sent the
// credential.
func AskDrift(ctx context.Context, name, address, credential string, want DriftRequest) (out []Drifted, err error) {
	return out, askStandIn(ctx, name, address+wire.PathDrift, credential, want, &out)
}

// AskLoad has a machine of a stand-in use what it is told for a while. Only a stand-in may be asked: it is sent the credential.
func AskLoad(ctx context.Context, name, address, credential string, want Load) error {
	return askStandIn(ctx, name, address+wire.PathMeasures, credential, want, &want)
}

func askStandIn(ctx context.Context, name, where, credential string, want, out any) error {
	body, err := json.Marshal(want)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, where, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set(wire.HeaderToken, "Bearer "+credential)
	resp, err := driftClient.Do(req)
	if err != nil {
		return fmt.Errorf("%s does not answer: %w", name, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		why, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<10)) // what is not told is not shown
		return fmt.Errorf("%s is no stand-in, or does not take it: %s %s", name, resp.Status, bytes.TrimSpace(why))
	}
	return json.NewDecoder(resp.Body).Decode(out)
}
