package workspace

import (
	"io"
	"sync"

	"gopkg.in/natefinch/lumberjack.v2"
)

// The log in a workspace: so many files of so many MiB are kept, for so many days.
const (
	fileLog  = "andamio.log"
	logMiB   = 5
	logsKept = 3
	logDays  = 90
)

// OpenLog is the workspace's log, which begins anew when it is full. It is made when there is something to say.
func OpenLog(ws *Workspace) io.WriteCloser {
	return &logWriter{to: &lumberjack.Logger{Filename: ws.Path(fileLog), MaxSize: logMiB, MaxBackups: logsKept, MaxAge: logDays}}
}

// logWriter writes to a log until it is closed; what is said afterwards, by what is just ending, makes no new file.
type logWriter struct {
	mu     sync.Mutex
	to     io.WriteCloser
	closed bool
}

func (w *logWriter) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.closed {
		return len(p), nil
	}
	return w.to.Write(p)
}

func (w *logWriter) Close() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.closed = true
	return w.to.Close()
}
