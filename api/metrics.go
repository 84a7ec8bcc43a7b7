package api

import (
	"bytes"
	"context"
	"sync"
	"time"

	"freshseal/contract"
	"freshseal/core/replacement"

	"github.com/gofiber/fiber/v3"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/common/expfmt"
)

// metricsRoutes are for monitoring systems: the text format of Prometheus, with a token of the
// role monitor, which opens nothing else.
var metricsRoutes = []route{
	{method: "GET", path: "/metrics", role: contract.Monitor, summary: "metrics in the text format of Prometheus",
		status: 200, media: "text/plain; version=0.0.4", handler: metrics},
}

// metricsAge is how old figures may be: several systems that ask cost no more than one.
const metricsAge = 5 * time.Second

// figures are the last ones that were counted.
type figures struct {
	lock sync.Mutex
	counting
	at time.Time
}

// of counts again where the last count is too old.
func (f *figures) of(ctx context.Context, s *Server) (counting, error) {
	f.lock.Lock()
	defer f.lock.Unlock()
	if time.Since(f.at) < metricsAge {
		return f.counting, nil
	}
	var counted counting
	var err error
	if counted.Figures, err = s.service.Report.Figures(ctx); err != nil {
		return counted, err
	}
	counted.notices, counted.unsent, err = s.service.Notices.Queue(ctx)
	if err == nil {
		f.counting, f.at = counted, time.Now()
	}
	return counted, err
}

func metrics(s *Server) fiber.Handler {
	process := prometheus.NewRegistry()
	process.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	var last figures
	return func(c fiber.Ctx) error {
		counted, err := last.of(c.Context(), s)
		if err != nil {
			return err
		}
		fleet := prometheus.NewRegistry()
		fleet.MustRegister(counted)
		families, err := prometheus.Gatherers{fleet, process}.Gather()
		if err != nil {
			return err
		}
		var out bytes.Buffer
		for _, family := range families {
			if _, err := expfmt.MetricFamilyToText(&out, family); err != nil {
				return err
			}
		}
		c.Set(fiber.HeaderContentType, "text/plain; version=0.0.4; charset=utf-8")
		return c.Send(out.Bytes())
	}
}

// counting tells figures as metrics.
type counting struct {
	contract.Figures
	notices, unsent int // that are to be sent, and messages that could not be
}

func described(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("freshseal_"+name, help, labels, nil)
}

var (
	slotsMetric    = described("slots", "Slots by site and condition.", "site", "condition")
	firstEndMetric = described("earliest_expiry_seconds", "Seconds until the first certificate of a site "+
		"expires; negative: it has expired.", "site")
	replacementsMetric = described("replacements", "Replacements by state.", "state")
	waitingMetric      = described("replacements_waiting", "Waiting replacements by what they wait for.", "waiting_for")
	tasksMetric        = described("tasks_open", "Steps that wait for a person.")
	pinsMetric         = described("pins_pending", "Pins not yet confirmed after a certificate changed.")
	lateMetric         = described("parcels_late", "Parcels whose signer should have answered by now.")
	dueMetric          = described("readings_due", "Slots whose next reading is due.")
	noticesMetric      = described("notices_waiting", "Notices that are to be sent.")
	unsentMetric       = described("messages_unsent", "Messages that were given up after three days.")
	readingsMetric     = described("readings_total", "Readings since the service was started.", "outcome")
	durationMetric     = described("reading_duration_seconds", "Duration of readings since the service was started.")
)

// Describe implements prometheus.Collector.
func (counting) Describe(to chan<- *prometheus.Desc) {
	for _, each := range []*prometheus.Desc{slotsMetric, firstEndMetric, replacementsMetric, waitingMetric,
		tasksMetric, pinsMetric, lateMetric, dueMetric, noticesMetric, unsentMetric, readingsMetric, durationMetric} {
		to <- each
	}
}

// Collect implements prometheus.Collector.
func (f counting) Collect(to chan<- prometheus.Metric) {
	gauge := func(about *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(about, prometheus.GaugeValue, value, labels...)
	}
	for key, n := range f.Slots {
		gauge(slotsMetric, float64(n), key.Site, string(key.Condition))
	}
	for site, end := range f.FirstEnd {
		gauge(firstEndMetric, end.Sub(f.At).Seconds(), site)
	}
	for _, state := range replacement.States {
		gauge(replacementsMetric, float64(f.Replacements[state]), string(state))
	}
	for _, whom := range replacement.WaitingFors {
		gauge(waitingMetric, float64(f.WaitingFor[whom]), string(whom))
	}
	gauge(tasksMetric, float64(f.Tasks))
	gauge(pinsMetric, float64(f.PendingPins))
	gauge(lateMetric, float64(f.LateParcels))
	gauge(dueMetric, float64(f.DueReadings))
	gauge(noticesMetric, float64(f.notices))
	gauge(unsentMetric, float64(f.unsent))
	var all uint64
	for outcome, n := range f.Readings.Outcomes {
		all += n
		to <- prometheus.MustNewConstMetric(readingsMetric, prometheus.CounterValue, float64(n), outcome)
	}
	to <- prometheus.MustNewConstHistogram(durationMetric, all, f.Readings.Seconds, f.Readings.Within)
}
