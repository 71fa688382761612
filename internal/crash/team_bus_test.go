package crash

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	busserver "andamio/internal/bus/server"
	"andamio/internal/core/hook"
	"andamio/internal/service/workspace"
)

// joinBus has what happens be kept on the bus.
func (m *team) joinBus(ctx context.Context) error {
	if err := m.a.SetSecrets(ctx, map[string]string{"bus": busserver.Password}); err != nil {
		return err
	}
	return m.a.SetBus(ctx, workspace.Bus{Bus: hook.Bus{Server: m.bus.URL(), Subject: "andamio", User: busserver.User}, Secret: "bus"})
}

// isOnBus waits until all that was noted is on the bus.
func (m *team) isOnBus(ctx context.Context) error {
	for until := time.Now().Add(comesToStand); ; <-time.After(200 * time.Millisecond) {
		b, err := m.a.BusNow(ctx)
		if err != nil {
			return err
		}
		if b.Trouble == "" && b.Behind == 0 {
			return nil
		}
		if time.Now().After(until) {
			return fmt.Errorf("what was noted is not on the bus after %s: %d entries are not, %s; %s", comesToStand, b.Behind, b.Trouble, m.told())
		}
	}
}

// onBusOnce reads all that is on the bus: each entry of the log is there once, in the order of the log, and nothing else is there twice.
func (m *team) onBusOnce(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, comesToStand)
	defer cancel()
	if err := m.isOnBus(ctx); err != nil {
		return err
	}
	conn, err := nats.Connect(m.bus.URL(), nats.UserInfo(busserver.User, busserver.Password))
	if err != nil {
		return err
	}
	defer conn.Close()
	js, err := jetstream.New(conn)
	if err != nil {
		return err
	}
	stream, err := js.Stream(ctx, "ANDAMIO")
	if err != nil {
		return err
	}
	info, err := stream.Info(ctx)
	if err != nil {
		return err
	}
	var wrong []error
	ids, entries := map[string]bool{}, int64(0)
	for seq := info.State.FirstSeq; seq <= info.State.LastSeq; seq++ {
		msg, err := stream.GetMsg(ctx, seq)
		if err != nil {
			return err
		}
		var e struct{ ID, Source string }
		if err := json.Unmarshal(msg.Data, &e); err != nil {
			return err
		}
		if ids[e.Source+" "+e.ID] {
			wrong = append(wrong, fmt.Errorf("%s is on the bus twice", msg.Subject))
		}
		ids[e.Source+" "+e.ID] = true
		if strings.HasPrefix(msg.Subject, "andamio.log.") {
			if entries++; e.ID != strconv.FormatInt(entries, 10) {
				wrong = append(wrong, fmt.Errorf("entry %s of the log is where entry %d is to be", e.ID, entries))
			}
		}
	}
	if !ids["andamio run-1-began"] {
		wrong = append(wrong, errors.New("the first run is not on the bus"))
	}
	return errors.Join(wrong...)
}
