package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"andamio/internal/store/postgres"
	"andamio/internal/store/postgres/server"
)

// mostOnPostgres is how many times as long a step may take whose journal is in PostgreSQL as one whose journal is in SQLite, on the same machine.
const mostOnPostgres = 3

// stores measures what a step takes with its journal in PostgreSQL, which makes sure of what is committed as SQLite does, against one with its journal in SQLite.
func stores(dir string) ([]result, error) {
	if server.Installed() == "" {
		fmt.Fprintln(os.Stderr, "stores: PostgreSQL is not installed, and not measured")
		return nil, nil
	}
	p := flat(wholePlan)
	s, inFile, _, err := journalled(dir, "stores", p)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	file, err := execute(p, inFile)
	if err != nil {
		return nil, err
	}
	of, err := os.MkdirTemp("", "andamio-bench-postgres-") // which whoever runs the database may enter
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(of)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	db, err := server.Make(ctx, of)
	if err != nil {
		return nil, err
	}
	db.Durable = true
	if err := db.Start(ctx); err != nil {
		return nil, err
	}
	defer db.Stop()
	there, err := postgres.Open(ctx, db.Address("bench"), "")
	if err != nil {
		return nil, err
	}
	defer there.Close()
	inDatabase, _, err := claimed(ctx, there, p)
	if err != nil {
		return nil, err
	}
	database, err := execute(p, inDatabase)
	if err != nil {
		return nil, err
	}
	return []result{{name: "a step with the journal in PostgreSQL", figure: database / wholePlan, ratio: ratio(database, file), base: "the same in SQLite", most: mostOnPostgres}}, nil
}
