package api

import (
	"context"

	"freshseal/contract"
	"freshseal/core/judgement/notice"
	"freshseal/service"
	"freshseal/service/notices"
	"freshseal/service/people"
)

type (
	putChannel struct {
		Name string `path:"name" json:"-"`
		guarded
		contract.NewChannel
	}
	putRule struct {
		Name string `path:"name" json:"-"`
		guarded
		notice.Rule
	}
	noticeQuery struct {
		contract.NoticeFilter
		paged
	}
	acknowledge struct {
		Device string `path:"device" json:"-"`
		Slot   string `path:"slot" json:"-"`
		contract.AskAcknowledge
	}
)

func theNotices(s *service.Service) *notices.Service { return s.Notices }

// tellRoutes are about who is told what.
var tellRoutes = []route{
	listing("/channels", "list the channels over which people are told", theNotices,
		(*notices.Service).Channels).by(contract.Admin),
	showing("/channels/{name}", "show a channel, without its secret", theNotices,
		(*notices.Service).Channel).by(contract.Admin),
	does("PUT", "/channels/{name}", "set a channel: mail, webhook or syslog", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in putChannel) (contract.Channel, error) {
			known, err := in.revision()
			if err != nil {
				return contract.Channel{}, err
			}
			return s.Notices.SetChannel(ctx, in.Name, in.NewChannel, known)
		}).by(contract.Admin),
	removal("/channels/{name}", "remove a channel that no rule uses", theNotices, (*notices.Service).RemoveChannel),
	does("POST", "/channels/{name}/trials", "send a message that only tries the channel", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in byName) (contract.Trial, error) {
			return s.Notices.TryChannel(ctx, in.Name)
		}).by(contract.Admin),
	listing("/notice-rules", "list the rules by which people are told", theNotices, (*notices.Service).Rules),
	showing("/notice-rules/{name}", "show a rule", theNotices, (*notices.Service).Rule),
	does("PUT", "/notice-rules/{name}", "set a rule", 200, func(ctx context.Context, s *service.Service,
		_ people.Bearer, in putRule) (contract.Rule, error) {
		known, err := in.revision()
		if err != nil {
			return contract.Rule{}, err
		}
		return s.Notices.SetRule(ctx, in.Name, in.Rule, known)
	}).by(contract.Admin),
	removal("/notice-rules/{name}", "remove a rule; what was made by it is sent all the same", theNotices,
		(*notices.Service).RemoveRule),
	looks("/notices", "list the notices, newest first", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in noticeQuery) (page[contract.Notice], error) {
		return pageOf(ctx, in.paged, in.NoticeFilter, s.Notices.Notices, s.Notices.CountNotices)
	}),
	listing("/acknowledgements", "list the slots of which somebody knows", theNotices,
		(*notices.Service).Acknowledgements),
	does("PUT", "/slots/{device}/{slot}/acknowledgement", "say that somebody knows of a slot: until a day nobody "+
		"is told of it, unless it gets worse", 200, func(ctx context.Context, s *service.Service, who people.Bearer,
		in acknowledge) (contract.Acknowledgement, error) {
		return s.Notices.Acknowledge(ctx, in.Device, in.Slot, in.AskAcknowledge, who.User)
	}),
	ends("DELETE", "/slots/{device}/{slot}/acknowledgement", "take that back",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in bySlot) error {
			return s.Notices.Withdraw(ctx, in.Device, in.Slot)
		}),
}
