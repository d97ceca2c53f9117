package workers

import (
	"errors"
	"os"
	"time"

	"github.com/nats-io/nats-server/v2/server"
)

// Server is a NATS server with JetStream in this process, that keeps nothing once it has ended.
type Server struct {
	nats *server.Server
	dir  string
}

// Serve runs a server at a port of the loopback interface; zero takes one that is free.
func Serve(port int) (*Server, error) {
	if port == 0 {
		port = server.RANDOM_PORT
	}
	return start(&server.Options{Host: "127.0.0.1", Port: port})
}

func start(o *server.Options) (*Server, error) {
	dir, err := os.MkdirTemp("", "dexamen-workers-*")
	if err != nil {
		return nil, err
	}
	o.JetStream, o.StoreDir, o.NoSigs, o.NoLog, o.ServerName = true, dir, true, true, "dexamen"
	s := &Server{dir: dir}
	if s.nats, err = server.NewServer(o); err == nil {
		s.nats.Start()
		if !s.nats.ReadyForConnections(10 * time.Second) {
			err = errors.New("a NATS server within this process does not begin")
		}
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Address is where it is reached.
func (s *Server) Address() string { return s.nats.ClientURL() }

// Close ends it, and removes its folder.
func (s *Server) Close() {
	if s.nats != nil {
		s.nats.Shutdown()
		s.nats.WaitForShutdown()
	}
	_ = os.RemoveAll(s.dir)
}
