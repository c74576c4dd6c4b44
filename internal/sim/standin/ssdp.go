package standin

import (
	"strings"
)

// Searches tells whether a packet is a search for a type, or for all.
func Searches(packet []byte, kind string) bool {
	text := string(packet)
	if !strings.HasPrefix(text, "M-SEARCH * HTTP/1.1\r\n") ||
		!strings.Contains(text, "\r\nMAN: \"ssdp:discover\"\r\n") {
		return false
	}
	return strings.Contains(text, "\r\nST: "+kind+"\r\n") ||
		strings.Contains(text, "\r\nST: ssdp:all\r\n")
}
