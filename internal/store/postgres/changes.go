package postgres

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"andamio/internal/store"
)

// changes tells those who wait in this process of what the database tells it (PostgreSQL 15, LISTEN).
type changes struct {
	config *pgx.ConnConfig

	mu      sync.Mutex
	waiting map[store.Topic]chan struct{}
	stop    context.CancelFunc
	done    chan struct{}
	closed  bool
}

// Changed is closed when something of what is named changes next.
func (s *Store) Changed(of store.Topic) <-chan struct{} { return s.changes.of(of) }

// of is closed at the next change; the first who asks has the database be listened to.
func (c *changes) of(topic store.Topic) <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return nil
	}
	if c.stop == nil {
		ctx, stop := context.WithCancel(context.Background()) // until the store is closed
		c.stop, c.done = stop, make(chan struct{})
		go c.listen(ctx)
	}
	ch := c.waiting[topic]
	if ch == nil {
		ch = make(chan struct{})
		c.waiting[topic] = ch
	}
	return ch
}

// tell has those who wait for a topic look.
func (c *changes) tell(topic store.Topic) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if ch := c.waiting[topic]; ch != nil {
		close(ch)
		delete(c.waiting, topic)
	}
}

// tellAll has everybody look: something may have changed that was not heard.
func (c *changes) tellAll() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for topic, ch := range c.waiting {
		close(ch)
		delete(c.waiting, topic)
	}
}

// listenAgain is after how long a database that was lost is listened to again.
const listenAgain = 500 * time.Millisecond

// listen listens until the context ends.
func (c *changes) listen(ctx context.Context) {
	defer close(c.done)
	for ctx.Err() == nil {
		c.listenOnce(ctx)
		c.tellAll()
		select {
		case <-ctx.Done():
		case <-time.After(listenAgain):
		}
	}
}

// aliveEvery is how often it is seen whether a database that tells nothing is there still.
const aliveEvery = 10 * time.Second

// listenOnce listens until the connection is lost.
func (c *changes) listenOnce(ctx context.Context) {
	conn, err := pgx.ConnectConfig(ctx, c.config.Copy())
	if err != nil {
		return
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_ = conn.Close(ctx)
	}()
	var channel string
	if err := conn.QueryRow(ctx, `SELECT 'andamio ' || md5(current_schema())`).Scan(&channel); err != nil {
		return
	}
	if _, err := conn.Exec(ctx, `LISTEN `+pgx.Identifier{channel}.Sanitize()); err != nil {
		return
	}
	c.tellAll() // of what changed before it was listened to
	for {
		wait, cancel := context.WithTimeout(ctx, aliveEvery)
		n, err := conn.WaitForNotification(wait)
		quiet := err != nil && wait.Err() != nil && ctx.Err() == nil
		cancel()
		switch {
		case err == nil:
			c.tell(store.Topic(n.Payload))
		case !quiet || !answers(ctx, conn):
			return
		}
	}
}

// answers reports that a connection is there still.
func answers(ctx context.Context, conn *pgx.Conn) bool {
	if conn.IsClosed() { // what waited in vain may have cost it
		return false
	}
	ctx, cancel := context.WithTimeout(ctx, aliveEvery)
	defer cancel()
	return conn.Ping(ctx) == nil
}

// close has everybody look a last time, and nobody be told any more.
func (c *changes) close() {
	c.mu.Lock()
	c.closed = true
	stop := c.stop
	c.mu.Unlock()
	if stop != nil {
		stop()
		<-c.done
	}
	c.tellAll()
}
