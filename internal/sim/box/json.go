package box

import (
	"encoding/json"
	"io"
	"net/http"
)

// ReadJSON reads the body of a request; it refuses what is none, and then gives false.
func ReadJSON(w http.ResponseWriter, r *http.Request, into any) bool {
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(into); err != nil {
		Refuse(w, http.StatusBadRequest, "not JSON")
		return false
	}
	return true
}

// JSON writes an answer.
func JSON(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // the reader went away
}

// Refuse writes an answer that says no, and why.
func Refuse(w http.ResponseWriter, status int, reason string) {
	JSON(w, status, map[string]string{"reason": reason})
}
