package dnssec

import (
	"encoding/hex"

	"unquil/core/wire"
)

// published are the digests of the root's key-signing keys, as IANA publishes them (RFC 9718).
var published = []struct {
	tag    uint16
	digest string
}{
	{20326, "e06d44b80b8f1d39a95c0b0d7c65d08458e880409bbc683457104237c7f8ec8d"},
	{38696, "683d2d0acb8c9b712a1948b27f741219298d0a450d612c483af444a4c0fb2b16"},
}

// PublishedAnchors are the trust anchors of the root: DS records of its keys.
func PublishedAnchors() (anchors []wire.Record) {
	const rsaSHA256, sha256 = 8, 2
	for _, p := range published {
		sum, _ := hex.DecodeString(p.digest)
		data := append([]byte{byte(p.tag >> 8), byte(p.tag), rsaSHA256, sha256}, sum...)
		anchors = append(anchors, wire.Record{Name: wire.Root, Type: wire.DS, Class: wire.IN, TTL: 172800, Data: string(data)})
	}
	return anchors
}

// DS is the record by which the zone above names a key, with its digest by SHA-256 (RFC 4509).
func (k *Key) DS() wire.Record {
	data := append([]byte{byte(k.Tag >> 8), byte(k.Tag), byte(k.Algorithm), 2}, digestOf(2, k)...)
	return wire.Record{Name: k.Owner, Type: wire.DS, Class: wire.IN, TTL: 3600, Data: string(data)}
}
