package fleet

import (
	"context"
	"fmt"
	"net"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/service/problem"
	"freshseal/store"
)

// OwnFamily is the procedure by which the service's own certificate is replaced.
const OwnFamily = "fresh-seal-itself"

// ListItself lists the service as a device of this name, at the address where it
// listens, and reads its slot.
func (s *Service) ListItself(ctx context.Context, name string, at net.Addr) error {
	where, ok := at.(*net.TCPAddr)
	if !ok {
		return fmt.Errorf("the service listens on %s, which is no TCP address", at)
	}
	address := where.IP.String()
	if where.IP.IsUnspecified() {
		address = "127.0.0.1"
	}
	rows, _, err := s.store.Devices.Page(ctx, store.DeviceFilter{Family: OwnFamily}, store.Page{Most: 1})
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		row, err := s.newDevice(ctx, contract.NewDevice{Name: name, Address: address, Notes: "Fresh Seal itself",
			Slots: []contract.DeviceSlot{{Name: "web", Port: where.Port, ServerName: name}}})
		if err != nil {
			return err
		}
		row.Family = OwnFamily
		_, err = s.addDevice(ctx, name, row)
		if err != nil {
			return err
		}
	} else {
		name = rows[0].Name
	}
	row, err := s.store.Slots.Get(ctx, name, "web")
	if err != nil {
		return err
	}
	if err := s.store.Slots.Move(ctx, row.ID, address, where.Port); err != nil {
		return err
	}
	s.running.Go(func() {
		if _, err := s.ReadSlot(s.stopping, name, "web"); err != nil && s.stopping.Err() == nil {
			s.log.Warn("reading the service's own slot", "error", err)
		}
	})
	return nil
}

func notOwn(cannot string) error {
	return problem.Reject(cannot, "the family "+OwnFamily+" is reserved for Fresh Seal itself",
		"choose another family", next.ListProcedures.On(""))
}
