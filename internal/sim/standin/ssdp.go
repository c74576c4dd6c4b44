package standin

import (
	"bufio"
	"bytes"
	"fmt"
	"net/http"
)

// Service is a stand-in's announcement by SSDP.
type Service struct {
	UUID    string
	Targets []string // its search targets besides ssdp:all and its UUID
	Fields  string   // header fields of its answers, each with CRLF at its end
}

// HearSearch answers a search: each target that it asks for with a separate answer (UPnP Device
// Architecture 1.1, 1.3.3).
func (s Service) HearSearch(packet []byte) (answers [][]byte) {
	r, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(packet)))
	if err != nil || r.Method != "M-SEARCH" || r.RequestURI != "*" ||
		r.Header.Get("MAN") != `"ssdp:discover"` {
		return nil
	}
	asked, own := r.Header.Get("ST"), "uuid:"+s.UUID
	answer := func(target, usn string) {
		if asked == target || asked == "ssdp:all" {
			answers = append(answers, fmt.Appendf(nil, "HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age=1800\r\n"+
				"EXT:\r\nST: %s\r\nUSN: %s\r\n%s\r\n", target, usn, s.Fields))
		}
	}
	for _, target := range s.Targets {
		answer(target, own+"::"+target)
	}
	answer(own, own)
	return answers
}
