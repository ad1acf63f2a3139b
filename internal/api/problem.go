package api

import (
	"encoding/json"
	"net/http"
)

// writeProblem sends a problem document outside of huma's handlers.
func writeProblem(w http.ResponseWriter, p *problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // the caller has gone if this fails
}
