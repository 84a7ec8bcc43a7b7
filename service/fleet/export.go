package fleet

import (
	"context"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"freshseal/contract"
	"freshseal/service/sheet"
)

// ExportDevices writes all devices as ImportDevices reads them, as csv or xlsx: a line
// for each slot, without secrets.
func (s *Inventory) ExportDevices(ctx context.Context, as string) (sheet.File, error) {
	devices, err := s.Lists.allDevices(ctx)
	if err != nil {
		return sheet.File{}, err
	}
	// every service lists itself
	devices = slices.DeleteFunc(devices, func(d contract.Device) bool { return d.Family == OwnFamily })
	settings, used := map[string]bool{}, map[string]bool{}
	for _, d := range devices {
		for name := range d.Settings {
			settings[name] = true
		}
		for _, a := range d.Access {
			used[a.Link] = true
		}
	}
	header := slices.Clone(importColumns)
	for _, link := range slices.Sorted(maps.Keys(used)) {
		for _, field := range accessColumns {
			if field != "password" {
				header = append(header, link+":"+field)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		header = append(header, "setting:"+name)
	}
	rows := [][]string{header}
	for _, d := range devices {
		for _, slot := range d.Slots {
			values := exported(d, slot)
			record := make([]string, len(header))
			for i, column := range header {
				record[i] = values[column]
			}
			rows = append(rows, record)
		}
	}
	return sheet.Write(as, sheet.Table{Name: "devices", Title: "Devices", Rows: rows})
}

// exported returns the columns of a line: a device with one of its slots.
func exported(d contract.Device, slot contract.DeviceSlot) map[string]string {
	var nodes, more []string
	for _, n := range d.Nodes {
		nodes = append(nodes, n.Name+"="+n.Address)
	}
	for _, p := range slot.More {
		more = append(more, net.JoinHostPort(p.Address, strconv.Itoa(p.Port)))
	}
	out := map[string]string{"name": d.Name, "address": d.Address, "site": d.Site, "family": d.Family,
		"owner": d.Owner, "tags": strings.Join(d.Tags, " "), "notes": d.Notes,
		"cluster": d.Cluster, "cluster_role": d.ClusterRole, "nodes": strings.Join(nodes, " "), "slot": slot.Name,
		"slot_address": elsewhere(slot.Address, d.Address),
		"port":         strconv.Itoa(slot.Port), "protocol": slot.Protocol, "server_name": slot.ServerName,
		"slot_more": strings.Join(more, " ")}
	if slot.ServerName == "" {
		out["server_name"] = cleared // if nothing is said, it is the device's name
	}
	for _, a := range d.Access {
		var options []string
		for _, name := range slices.Sorted(maps.Keys(a.Options)) {
			options = append(options, name+"="+a.Options[name])
		}
		for field, value := range map[string]string{"address": a.Address, "port": strconv.Itoa(a.Port),
			"user": a.User, "credential": a.Credential, "pin": a.Pin, "options": strings.Join(options, " ")} {
			out[a.Link+":"+field] = value
		}
	}
	for name, value := range d.Settings {
		if value != sealedSetting {
			out["setting:"+name] = value
		}
	}
	return out
}

// elsewhere returns an address where it is another than the usual one.
func elsewhere(address, usual string) string {
	if address == usual {
		return ""
	}
	return address
}
