package server

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/VictoriaMetrics/metrics"
)

// measures are what the server tells of itself, in the text format of Prometheus.
type measures struct{ set *metrics.Set }

func newMeasures() *measures { return &measures{metrics.NewSet()} }

// answered counts an answer.
func (m *measures) answered(route string, status int, took time.Duration, sent int64) {
	_, address, _ := strings.Cut(route, " ")
	m.set.GetOrCreateCounter(fmt.Sprintf(`oaken_requests_total{route=%q,status="%d"}`, address, status)).Inc()
	m.set.GetOrCreatePrometheusHistogram(fmt.Sprintf(`oaken_request_seconds{route=%q}`, address)).Update(took.Seconds())
	m.set.GetOrCreateCounter(`oaken_sent_bytes_total`).AddInt64(sent)
}

// received counts what came in.
func (m *measures) received(n int64) {
	m.set.GetOrCreateCounter(`oaken_received_bytes_total`).AddInt64(n)
}

// acted counts acts by their sort.
func (m *measures) acted(sort string, refused bool) {
	m.set.GetOrCreateCounter(fmt.Sprintf(`oaken_acts_total{act=%q,refused="%v"}`, sort, refused)).Inc()
}

// jobbed counts what was done to environments.
func (m *measures) jobbed(do string, failed bool) {
	m.set.GetOrCreateCounter(fmt.Sprintf(`oaken_jobs_total{do=%q,failed="%v"}`, do, failed)).Inc()
}

// waits counts who waits for news.
func (m *measures) waits(more int) {
	m.set.GetOrCreateCounter(`oaken_waiting`).AddInt64(int64(more))
}

func (m *measures) write(w io.Writer) {
	m.set.WritePrometheus(w)
	metrics.WriteProcessMetrics(w)
}
