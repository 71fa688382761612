package site

import "context"

// Balancer is a site that runs load balancers of its own, as instances whose [Request.Appliance] says so.
type Balancer interface {
	// Balance tells one what to do with what comes to it; what it was told before counts no more. Its members stay.
	Balance(ctx context.Context, id string, b Balancing) error
	// Enroll has it hand out to a member, by its name: one of that name is elsewhere from now on.
	Enroll(ctx context.Context, id string, m Member) error
	// Dismiss has it hand out to a member no more; nothing is to be done where it has none of that name.
	Dismiss(ctx context.Context, id, name string) error
	// Balances is what one was told, with its members by name: the addresses and ports at which they are asked.
	Balances(ctx context.Context, id string) (Balancing, map[string]string, error)
}

// LoadBalancer is the appliance that a [Balancer] builds.
const LoadBalancer = "load-balancer"

// Balancing is what a load balancer does.
type Balancing struct {
	// Port is where it is asked, Protocol http or tcp.
	Port     int
	Protocol string
	// Algorithm is roundrobin, leastconn or source; Look the page that members are asked for, "" for a connection.
	Algorithm, Look string
}

// Member is one that is handed out to.
type Member struct {
	Name, Address string
	Port          int
}
