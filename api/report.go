package api

import (
	"freshseal/contract"

	"github.com/gofiber/fiber/v3"
)

type askReport struct {
	Kind  string `path:"kind" json:"-"`
	Form  string `query:"form" json:"-" enum:"csv,xlsx,html" description:"left out: csv"`
	Day   string `query:"day" json:"-" description:"of the state, such as 2026-11-27; left out: today"`
	From  string `query:"from" json:"-" description:"first day of the period; left out: thirty days before its last"`
	Until string `query:"until" json:"-" description:"last day of the period; left out: today"`
	Site  string `query:"site" json:"-" description:"left out: everywhere"`
}

// reportRoutes are about reports.
var reportRoutes = []route{
	{method: "GET", path: v1 + "/reports/{kind}", role: contract.Viewer, summary: "a report: state (of the fleet " +
		"as of a day), replaced (in a period), exceptions", status: 200, in: askReport{}, media: "text/csv",
		handler: report},
}

func report(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		var in askReport
		if err := decode(c, &in, 0); err != nil {
			return err
		}
		f, err := s.service.Report.Report(c.Context(), contract.AskReport(in))
		if err != nil {
			return err
		}
		if err := s.service.People.Record(c.Context(), bearer(c).User, "make a report", f.Name); err != nil {
			return err
		}
		return sendSheet(c, f)
	}
}
