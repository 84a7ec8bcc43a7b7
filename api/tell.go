package api

import (
	"context"

	"freshseal/core/notice"
	"freshseal/service"
	"freshseal/service/people"
	"freshseal/service/tell"
)

type (
	putChannel struct {
		Name string `path:"name" json:"-"`
		guarded
		tell.NewChannel
	}
	putRule struct {
		Name string `path:"name" json:"-"`
		guarded
		notice.Rule
	}
	noticeQuery struct {
		tell.NoticeFilter
		paged
	}
	acknowledge struct {
		Device string `path:"device" json:"-"`
		Slot   string `path:"slot" json:"-"`
		tell.AskAcknowledge
	}
)

func theTell(s *service.Service) *tell.Service { return s.Tell }

// tellRoutes are about who is told of what.
var tellRoutes = []route{
	listing("/channels", "list the channels over which people are told", theTell, (*tell.Service).Channels).by(people.Admin),
	showing("/channels/{name}", "show a channel, without its secret", theTell, (*tell.Service).Channel).by(people.Admin),
	does("PUT", "/channels/{name}", "set a channel: mail, webhook or syslog", 200, func(ctx context.Context, s *service.Service, _ people.Bearer, in putChannel) (tell.Channel, error) {
		known, err := in.revision()
		if err != nil {
			return tell.Channel{}, err
		}
		return s.Tell.SetChannel(ctx, in.Name, in.NewChannel, known)
	}).by(people.Admin),
	removal("/channels/{name}", "remove a channel that no rule uses", theTell, (*tell.Service).RemoveChannel),
	does("POST", "/channels/{name}/trials", "send a message that only tries the channel", 200, func(ctx context.Context, s *service.Service, _ people.Bearer, in byName) (tell.Trial, error) {
		return s.Tell.TryChannel(ctx, in.Name)
	}).by(people.Admin),
	listing("/notice-rules", "list the rules by which people are told", theTell, (*tell.Service).Rules),
	showing("/notice-rules/{name}", "show a rule", theTell, (*tell.Service).Rule),
	does("PUT", "/notice-rules/{name}", "set a rule", 200, func(ctx context.Context, s *service.Service, _ people.Bearer, in putRule) (tell.Rule, error) {
		known, err := in.revision()
		if err != nil {
			return tell.Rule{}, err
		}
		return s.Tell.SetRule(ctx, in.Name, in.Rule, known)
	}).by(people.Admin),
	removal("/notice-rules/{name}", "remove a rule; what was made by it is sent all the same", theTell, (*tell.Service).RemoveRule),
	looks("/notices", "list the notices, newest first", func(ctx context.Context, s *service.Service, _ people.Bearer, in noticeQuery) (page[tell.Notice], error) {
		return pageOf(ctx, in.paged, in.NoticeFilter, s.Tell.Notices, s.Tell.CountNotices)
	}),
	listing("/acknowledgements", "list the slots of which somebody knows", theTell, (*tell.Service).Acknowledgements),
	does("PUT", "/slots/{device}/{slot}/acknowledgement", "say that somebody knows of a slot: until a day nobody is told of it, unless it gets worse", 200, func(ctx context.Context, s *service.Service, who people.Bearer, in acknowledge) (tell.Acknowledgement, error) {
		return s.Tell.Acknowledge(ctx, in.Device, in.Slot, in.AskAcknowledge, who.User)
	}),
	ends("DELETE", "/slots/{device}/{slot}/acknowledgement", "take that back", func(ctx context.Context, s *service.Service, _ people.Bearer, in bySlot) error {
		return s.Tell.Withdraw(ctx, in.Device, in.Slot)
	}),
}
