package main

import (
	"fmt"
	"net/http"
	"os"
)

func main() {
	mux := http.NewServeMux()
	closed := func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "CLOSED") }
	mux.HandleFunc("/assign", closed)
	mux.HandleFunc("/assign/", closed)
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "OTHER") })
	http.ListenAndServe("127.0.0.1:"+os.Args[1], mux)
}
