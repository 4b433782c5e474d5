// The server of the parcels of the Skerry Line: an example of a service that a browser page and
// desks with scanners use.
package main

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"flag"
	"fmt"
	"io"
	"iter"
	"log"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strconv"
	"sync"
	"syscall"
	"time"

	"faithfulcourier/examples/parcels/go/gen/faithful/web"
	"faithfulcourier/examples/parcels/go/gen/faithful/wire"
	"faithfulcourier/examples/parcels/go/gen/skerry/parcels"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:0", "the address to listen on")
	page := flag.String("page", "page", "the folder of the page")
	key := flag.String("key", "skerry desk", "what desks show")
	flag.Parse()
	listener, err := net.Listen("tcp", *listen)
	if err != nil {
		log.Fatal(err)
	}
	store := &store{key: *key, visitors: map[string]parcels.Name{}, kept: map[wire.UUID]*kept{}}
	service := store.serve()
	mux := http.NewServeMux()
	mux.Handle("/", service)
	mux.Handle("GET /page/", http.StripPrefix("/page", http.FileServer(http.Dir(*page))))
	server := web.NewServer(mux)
	stopped := make(chan struct{})
	interrupted, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	go func() {
		defer close(stopped)
		<-interrupted.Done()
		// What has begun may end; whoever comes now is told to go elsewhere.
		patience, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if err := errors.Join(service.Shutdown(patience), server.Shutdown(patience)); err != nil {
			log.Print(err)
		}
	}()
	fmt.Printf("listening on http://%s\n", listener.Addr())
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		log.Fatal(err)
	}
	<-stopped
	fmt.Println("stopped")
}

// store keeps parcels in memory.
type store struct {
	key      string
	mu       sync.Mutex
	visitors map[string]parcels.Name // by what their cookie holds
	kept     map[wire.UUID]*kept
}

// kept is a parcel with what the line knows of it.
type kept struct {
	parcel  parcels.Parcel
	version int
	photo   []byte
	media   string
	at      *parcels.Quay
}

func (s *store) serve() *web.Served {
	return parcels.ServeParcels(parcels.ParcelsCalls{
		SignIn: s.signIn, Send: s.send, Parcel: s.parcel, Amend: s.amend, PutPhoto: s.putPhoto, Photo: s.photo,
		HandOver: s.handOver,
	}, web.WithAuthorizer(s.authorize), web.WithCookie("visitor", func(c *http.Cookie) { c.MaxAge = 24 * 60 * 60 }))
}

// authorize looks at what a call was shown; the server has seen that it is there.
func (s *store) authorize(ctx context.Context, _ *web.Call, shown web.Credentials) (context.Context, error) {
	if key, there := shown.Value("desk"); there && subtle.ConstantTimeCompare([]byte(key), []byte(s.key)) == 0 {
		return nil, web.Unauthenticated("this is not the key of a desk")
	}
	if visitor, there := shown.Value("visitor"); there {
		s.mu.Lock()
		defer s.mu.Unlock()
		if _, known := s.visitors[visitor]; !known {
			return nil, web.Unauthenticated("sign in again")
		}
	}
	return ctx, nil
}

func (s *store) signIn(_ context.Context, request *parcels.SignIn) (*parcels.Visitor, error) {
	visitor := rand.Text()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.visitors[visitor] = request.Name
	return &parcels.Visitor{Name: request.Name, Visitor: &visitor}, nil
}

func (s *store) send(_ context.Context, request *parcels.Sending) (*parcels.Sent, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	id, k := wire.NewUUID(), &kept{parcel: request.Parcel, version: 1}
	s.kept[id] = k
	return k.sent(id), nil
}

func (s *store) parcel(_ context.Context, request *parcels.ParcelRequest) (*parcels.Sent, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	k, err := s.find(request.ID)
	if err != nil {
		return nil, err
	}
	// Where the request names this tag, the client gets 304 instead of the answer.
	return k.sent(request.ID), nil
}

func (s *store) amend(_ context.Context, request *parcels.Amendment) (*parcels.Sent, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	k, err := s.find(request.ID)
	if err != nil {
		return nil, err
	}
	if request.Known != k.tag() {
		return nil, &parcels.ParcelChanged{ID: request.ID}
	}
	request.Changes.Apply(&k.parcel)
	k.version++
	return k.sent(request.ID), nil
}

func (s *store) putPhoto(_ context.Context, request *parcels.Photo) error {
	photo, err := io.ReadAll(request.Photo) // of as many bytes as the definitions allow
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	k, err := s.find(request.ID)
	if err != nil {
		return err
	}
	k.photo, k.media = photo, request.Photo.MediaType
	k.version++
	return nil
}

func (s *store) photo(_ context.Context, request *parcels.PhotoRequest) (*parcels.PhotoOfParcel, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	k, err := s.find(request.ID)
	if err != nil {
		return nil, err
	}
	if k.photo == nil {
		return nil, &web.Refusal{Status: http.StatusNotFound, Title: "no photo", Detail: "nobody has taken a photo of it"}
	}
	return &parcels.PhotoOfParcel{Photo: wire.NewBody(k.media, k.photo), Tag: k.tag()}, nil
}

// handOver takes scans as they come: the desk is known before the first one.
func (s *store) handOver(_ context.Context, desk *parcels.Desk, scans iter.Seq2[*parcels.Scan, error]) (
	*parcels.HandedOver, error) {
	done := &parcels.HandedOver{}
	for scan, err := range scans {
		if err != nil {
			return nil, err // the scanner was cut off
		}
		s.mu.Lock()
		if k := s.kept[scan.Parcel]; k != nil {
			k.at = &desk.Quay
			k.version++
			done.Parcels++
		} else {
			done.NeverSent = append(done.NeverSent, scan.Parcel)
		}
		s.mu.Unlock()
	}
	return done, nil
}

// find is for those who hold the lock.
func (s *store) find(id wire.UUID) (*kept, error) {
	if k := s.kept[id]; k != nil {
		return k, nil
	}
	return nil, &parcels.NoParcel{ID: id}
}

func (k *kept) tag() string { return strconv.Quote(strconv.Itoa(k.version)) }

func (k *kept) sent(id wire.UUID) *parcels.Sent {
	return &parcels.Sent{Tag: k.tag(), ID: id, Parcel: *k.parcel.Clone(), At: k.at}
}
