package machine

import (
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"
)

// caveat is what is not read of this system.
const caveat = "what Windows keeps in its resolver cache is not read"

// readOwn reads the set-up of this machine: its adapters, the policy table and the list of suffixes from its registry,
// and its hosts file.
func readOwn(files func(string) fs.FS) (Setup, error) {
	setup := Setup{Dots: 1}
	folder, err := windows.GetSystemWindowsDirectory() // C:\Windows, whatever drive the program runs on
	if err == nil {
		err = setup.readHosts(files(folder), "System32/drivers/etc/hosts")
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		setup.Unread = append(setup.Unread, err.Error())
	}
	adapters, err := adaptersOf()
	if err != nil {
		return setup, fmt.Errorf("%w: %w", ErrUnread, err)
	}
	search, domain := suffixList()
	setup.setAdapters(adapters, policyTable(), search, domain)
	if len(setup.Resolvers) == 0 {
		return setup, ErrNoResolver
	}
	return setup, nil
}

// adaptersOf asks the system for its adapters.
func adaptersOf() (all []Adapter, err error) {
	const flags = windows.GAA_FLAG_SKIP_UNICAST | windows.GAA_FLAG_SKIP_ANYCAST | windows.GAA_FLAG_SKIP_MULTICAST
	var buffer []byte
	size := uint32(16 << 10)
	for range 4 { // it says how much room it wants
		buffer = make([]byte, size)
		first := (*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0]))
		err = windows.GetAdaptersAddresses(windows.AF_UNSPEC, flags, 0, first, &size)
		if err == nil || !errors.Is(err, windows.ERROR_BUFFER_OVERFLOW) || size > maxBytes {
			break
		}
	}
	if err != nil {
		return nil, err
	}
	for a := (*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0])); a != nil && len(all) < maxScopes; a = a.Next {
		one := Adapter{Name: windows.UTF16PtrToString(a.FriendlyName), Up: a.OperStatus == windows.IfOperStatusUp, Metric: int(min(a.Ipv4Metric, a.Ipv6Metric)), Suffix: windows.UTF16PtrToString(a.DnsSuffix)}
		if a.Ipv4Metric == 0 || a.Ipv6Metric == 0 {
			one.Metric = int(max(a.Ipv4Metric, a.Ipv6Metric))
		}
		for d := a.FirstDnsServerAddress; d != nil && len(one.Resolvers) < maxResolvers; d = d.Next {
			if ip, ok := netip.AddrFromSlice(d.Address.IP()); ok {
				one.Resolvers = append(one.Resolvers, netip.AddrPortFrom(ip.Unmap(), 53))
			}
		}
		all = append(all, one)
	}
	return all, nil
}

// suffixList is the list of suffixes for all adapters, and the machine's own domain.
func suffixList() (search []string, domain string) {
	key, err := registry.OpenKey(registry.LOCAL_MACHINE, `SYSTEM\CurrentControlSet\Services\Tcpip\Parameters`, registry.QUERY_VALUE)
	if err != nil {
		return nil, ""
	}
	defer key.Close()
	list, _, _ := key.GetStringValue("SearchList") // what is not there is empty
	domain, _, _ = key.GetStringValue("Domain")
	for suffix := range strings.SplitSeq(list, ",") {
		if suffix = strings.TrimSpace(suffix); suffix != "" {
			search = append(search, suffix)
		}
	}
	return search, domain
}

// policyTable is the name resolution policy table.
func policyTable() (all []Policy) {
	for _, path := range []string{`SOFTWARE\Policies\Microsoft\Windows NT\DNSClient\DnsPolicyConfig`, `SYSTEM\CurrentControlSet\Services\Dnscache\Parameters\DnsPolicyConfig`} {
		key, err := registry.OpenKey(registry.LOCAL_MACHINE, path, registry.READ)
		if err != nil {
			continue
		}
		rows, _ := key.ReadSubKeyNames(maxScopes)
		key.Close()
		for _, row := range rows {
			one, err := registry.OpenKey(registry.LOCAL_MACHINE, path+`\`+row, registry.QUERY_VALUE)
			if err != nil {
				continue
			}
			names, _, _ := one.GetStringsValue("Name")
			servers, _, _ := one.GetStringValue("GenericDNSServers")
			one.Close()
			p := Policy{Names: names}
			for server := range strings.SplitSeq(servers, ";") {
				if a, err := netip.ParseAddr(strings.TrimSpace(server)); err == nil {
					p.Resolvers = append(p.Resolvers, netip.AddrPortFrom(a, 53))
				}
			}
			all = append(all, p)
		}
	}
	return all
}
