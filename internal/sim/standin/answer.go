package standin

import (
	"encoding/json"
	"net/http"
)

// Answer answers a request with JSON (RFC 8259).
func Answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}
