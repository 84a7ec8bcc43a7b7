package api

import (
	"cmp"
	"context"
	"strconv"

	"freshseal/contract"
	"freshseal/service"
	"freshseal/service/people"
)

type (
	askForecast struct {
		Weeks  string `query:"weeks" json:"-" description:"how many; left out: 104"`
		Site   string `query:"site" json:"-" description:"left out: everywhere"`
		Public string `query:"public" json:"-" enum:"true,false" description:"count all certificates as publicly trusted"`
	}
	askExpiring struct {
		Within string `query:"within" json:"-" description:"days to look ahead; left out: 365"`
	}
)

// number reads a number of a query; what is none is -1, which every use case refuses.
func number(text, usual string) int {
	n, err := strconv.Atoi(cmp.Or(text, usual))
	if err != nil {
		return -1
	}
	return n
}

// aheadRoutes are about what is to come.
var aheadRoutes = []route{
	looks("/forecast", "count the replacements of the coming weeks: as long as certificates live now, and under "+
		"the coming longest lives", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in askForecast) (contract.Forecast, error) {
		return s.Report.Forecast(ctx, number(in.Weeks, "0"), in.Site, in.Public == "true")
	}),
	looks("/expiries", "count when certificates end: by month and condition, and by week and site",
		func(ctx context.Context, s *service.Service, _ people.Bearer, _ nothing) (contract.Expiries, error) {
			return s.Report.Expiries(ctx)
		}),
	looks("/expiring", "list what else ends by itself: intermediates and roots in use, validations of domains, "+
		"tokens and calendars", func(ctx context.Context, s *service.Service, who people.Bearer,
		in askExpiring) (page[contract.Expiring], error) {
		items, err := s.Report.Expiring(ctx, number(in.Within, "365"), who.Role == contract.Admin)
		return page[contract.Expiring]{Items: items}, err
	}),
}
