package cli

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"brickrow/internal/postgres/postgrestest"
)

// twenty are twenty resources, in three courses.
const twenty = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { site: { type: string } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }
    post: { type: Server, count: 2, properties: { size: small, image: moss-3 }, requirements: [ { subnet: sub } ] }
    news: { type: Topic, count: 8, properties: { label: { $get_input: site } } }
    readings: { type: Queue, count: 8 }
`

// BenchmarkFleet rolls twenty resources out in each of many places, with one, two and four workers, and tells how many
// places each worker does in a second beside one alone, what the store was given to write for each place, and what time
// of processors each took. BRICKROW_PLACES says how many there are; 1000 takes a quarter of an hour.
func BenchmarkFleet(b *testing.B) {
	places := 30
	if n, err := strconv.Atoi(os.Getenv("BRICKROW_PLACES")); err == nil {
		places = n
	}
	alone := 0.0
	for _, workers := range []int{1, 2, 4} {
		b.Run(fmt.Sprintf("places=%d/workers=%d", places, workers), func(b *testing.B) {
			for range b.N {
				rate := rollOut(b, places, workers)
				if workers == 1 {
					alone = rate
				}
				b.ReportMetric(rate, "places/s")
				b.ReportMetric(rate/float64(workers)/alone, "of-one-alone")
			}
		})
	}
}

// stat reads what the system tells of a process, from its state on.
func stat(b *testing.B, pid int) []float64 {
	b.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		b.Fatal(err)
	}
	var out []float64
	for _, f := range strings.Fields(string(text[strings.LastIndex(string(text), ")")+1:])) {
		n, _ := strconv.ParseFloat(f, 64)
		out = append(out, n)
	}
	return out
}

// ofAll are the seconds of processors that a process and those that have ended below it have had.
func ofAll(stat []float64) float64 { return (stat[11] + stat[12] + stat[13] + stat[14]) / 100 }

// rollOut is how many places so many workers do in a second.
func rollOut(b *testing.B, places, workers int) float64 {
	const atOnce = 8
	server := postgrestest.Start(b)
	server.Stop()
	server.Durable = true // as one in use
	server.Run(b)
	store := server.Database(b, "stores")
	m := newTeam(b, store, 5, (places+2)/3)
	m.file("twenty.yaml", twenty)
	m.file("twenty.stack.yaml", "template: twenty.yaml\nstack: twenty\n")
	file := m.file("twenty.fleet.yaml", fmt.Sprintf("fleet: twenty\nstack: twenty.stack.yaml\nplaces: [ { target: hut-*/*, inputs: { site: { filled_by: region } } } ]\nwaves: [ rest ]\nat_once: %d\n",
		4*workers*atOnce))
	m.run(0, "ann", "stacks")
	conn, err := pgx.Connect(b.Context(), store)
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close(b.Context())
	if _, err := conn.Exec(b.Context(), `set search_path = brickrow`); err != nil {
		b.Fatal(err)
	}
	written := func() (transactions, rows, bytes int64) {
		time.Sleep(1500 * time.Millisecond) // the server tells of it with some delay
		if err := conn.QueryRow(b.Context(), `select sum(n_tup_ins + n_tup_upd + n_tup_del) from pg_stat_user_tables where schemaname = current_schema()`).Scan(&rows); err != nil {
			b.Fatal(err)
		}
		if err := conn.QueryRow(b.Context(), `select xact_commit, pg_database_size(datname) from pg_stat_database where datname = current_database()`).Scan(&transactions, &bytes); err != nil {
			b.Fatal(err)
		}
		return transactions, rows, bytes
	}
	begun := time.Now()
	m.run(0, "ann", "fleet", "deploy", file, "--yes", "--queue")
	b.ReportMetric(time.Since(begun).Seconds()/float64(places)*1000, "ms-to-begin/place")
	var backend int
	if err := conn.QueryRow(b.Context(), `select pg_backend_pid()`).Scan(&backend); err != nil {
		b.Fatal(err)
	}
	postmaster := int(stat(b, backend)[1])
	spent := ofAll(stat(b, postmaster))
	did, before, small := written()
	ws := make([]*worker, workers)
	begun = time.Now()
	for i := range ws {
		ws[i] = m.worker("ann", "--name", fmt.Sprint("w", i), "--at-once", strconv.Itoa(atOnce))
	}
	connections := 0
	for {
		time.Sleep(200 * time.Millisecond)
		var state string
		var n int
		if err := conn.QueryRow(b.Context(), `select state, (select count(*) from pg_stat_activity where datname = current_database()) - 1 from rollouts`).Scan(&state, &n); err != nil {
			b.Fatal(err)
		}
		connections = max(connections, n)
		if state != "deploying" {
			if state != "ready" {
				b.Fatal(state)
			}
			break
		}
	}
	took := time.Since(begun)
	b.ReportMetric(float64(connections)/float64(workers), "connections/worker")
	done, after, large := written()
	b.ReportMetric(float64(large-small)/float64(places)/1000, "kB/place")
	b.ReportMetric(float64(done-did)/float64(places), "transactions/place")
	b.ReportMetric(float64(after-before)/float64(places), "rows/place")
	cpu := time.Duration(0)
	for _, w := range ws {
		_ = w.Process.Signal(syscall.SIGTERM)
		_ = w.Wait()
		cpu += w.ProcessState.UserTime() + w.ProcessState.SystemTime()
	}
	m.until("the server has let their connections go", func() bool {
		var n int
		err := conn.QueryRow(b.Context(), `select count(*) from pg_stat_activity where datname = current_database()`).Scan(&n)
		return err == nil && n == 1
	})
	b.ReportMetric(cpu.Seconds()/float64(places)*1000, "worker-cpu-ms/place")
	b.ReportMetric((ofAll(stat(b, postmaster))-spent)/float64(places)*1000, "server-cpu-ms/place")
	return float64(places) / took.Seconds()
}
