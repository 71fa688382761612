# Everything a fresh machine with Go, git, make and Debian's package client needs: make demo, make test.

GO ?= go
BIN := bin/andamio

.PHONY: build demo test lint bench mutants soak screenshots tools laboratory lab lab-team

build:
	@mkdir -p bin
	$(GO) build -o $(BIN) ./cmd/andamio

demo: build
	./$(BIN) demo

# The screens are tested in a real terminal, which tmux provides; names against a real name server; packages with the
# tools that others read them with, and pictures too.
tools:
	@missing=""; \
	command -v tmux >/dev/null || missing="$$missing tmux"; \
	command -v pgrep >/dev/null || missing="$$missing procps"; \
	command -v ip >/dev/null || missing="$$missing iproute2"; \
	python3 -c 'import dateutil.rrule' 2>/dev/null || /usr/bin/python3 -c 'import dateutil.rrule' 2>/dev/null || missing="$$missing python3-dateutil"; \
	command -v ssh-keygen >/dev/null || missing="$$missing openssh-client"; \
	[ -x /usr/sbin/sshd ] || missing="$$missing openssh-server"; \
	command -v named >/dev/null || missing="$$missing bind9"; \
	command -v dig >/dev/null || missing="$$missing bind9-dnsutils"; \
	command -v dnsmasq >/dev/null || missing="$$missing dnsmasq-base"; \
	command -v haproxy >/dev/null || missing="$$missing haproxy"; \
	ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || { missing="$$missing postgresql"; mkdir -p /etc/postgresql-common; \
	[ -e /etc/postgresql-common/createcluster.conf ] || echo "create_main_cluster = false" > /etc/postgresql-common/createcluster.conf; }; \
	command -v qemu-img >/dev/null || missing="$$missing qemu-utils"; \
	command -v qpdf >/dev/null || missing="$$missing qpdf"; \
	command -v pdftotext >/dev/null || missing="$$missing poppler-utils"; \
	command -v rsvg-convert >/dev/null || missing="$$missing librsvg2-bin"; \
	python3 -c 'import icalendar' 2>/dev/null || /usr/bin/python3 -c 'import icalendar' 2>/dev/null || missing="$$missing python3-icalendar"; \
	[ -z "$$missing" ] || { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; }
	@# Clients and readers that others wrote for node. Where there is no npm the tests with them say so, and the rest is run all the same.
	@command -v npm >/dev/null || { echo "NO NPM: nothing is spoken with clients for node"; exit 0; }; cd tools/peers; \
	[ node_modules/.package-lock.json -nt package-lock.json ] || npm ci --silent --no-audit --no-fund 2>/dev/null || echo "NO PEERS: npm could not install tools/peers/package.json"

# What laboratories are run with: hosts with libvirt and QEMU. Where it cannot be had the rest is tested all the same.
LABS := ./internal/laboratory ./internal/site/libvirt
laboratory:
	@missing=""; \
	need() { command -v "$$1" >/dev/null || [ -e "$$1" ] || missing="$$missing $$2"; }; \
	need libvirtd libvirt-daemon; need virsh libvirt-clients; need qemu-system-x86_64 qemu-system-x86; need qemu-img qemu-utils; need dnsmasq dnsmasq-base; \
	need /usr/lib/x86_64-linux-gnu/libvirt/connection-driver/libvirt_driver_qemu.so libvirt-daemon-driver-qemu; \
	need grub-mkimage grub-common; need /usr/lib/grub/i386-pc/boot.img grub-pc-bin; need mke2fs e2fsprogs; need cpio cpio; need depmod kmod; \
	need ip iproute2; need iptables iptables; need unshare util-linux; \
	[ -z "$$missing" ] || { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; } || \
	echo "NO LABORATORY: these could not be installed:$$missing"

# A host with libvirt of its own, for trying: make lab starts it, make lab DO=down switches it off.
DO ?= up
AT ?= $(HOME)/.andamio-lab
lab: laboratory
	$(GO) run ./tools/lab $(DO) $(AT)

# A team's laboratory until it is interrupted: a database of PostgreSQL, three machines that serve one workspace in it, and two closed networks with sites and a worker each.
TEAM ?= /tmp/andamio-team
lab-team: tools build
	$(GO) run ./tools/labteam $(BIN) $(TEAM)

# Heaps are small beside what machines have: collecting them less often spares a sixth of the time. Tests wait for machines more than they
# reckon, so four packages and three tests of each go on at once on whatever machine; a package is given longer than is usual, for where
# others take those; lint has vetted all of it before. Laboratories take all the processors there are, and come after the others.
test: tools laboratory lint build
	GOGC=400 tools/scratch.sh $(GO) test -vet=off -p 4 -parallel 3 -timeout 25m $$($(GO) list ./... | grep -vE '$(subst $() ,|,$(patsubst ./%,/%$$,$(LABS)))')
	@$(GO) run ./tools/lab possible || true
	@# What these build and ask the go command does not know of: no result of theirs is taken from before.
	tools/scratch.sh $(GO) test -vet=off -count 1 -p 1 -timeout 15m $(LABS)

# Heaps are collected less often here, too, and in what is built.
lint build: export GOGC = 400

lint:
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "not gofmt:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	$(GO) vet ./...
	$(GO) vet -tags soak ./internal/crash
	$(GO) tool staticcheck ./...

bench: build
	$(GO) run ./tools/bench

# What of what was changed since a commit (SINCE, or all of PACKAGES) could be otherwise without a test noticing it.
SINCE ?= HEAD
mutants:
	$(GO) run ./tools/mutants --since $(SINCE) $(PACKAGES)

# Workers are killed at random instants, 500 times or as often as KILLS says, while the stand-ins misbehave.
soak:
	KILLS=$(KILLS) $(GO) test ./internal/crash -tags soak -run TestSoak -count=1 -timeout 0 -v

# Pictures of the views in docs/screenshots, made from the demo.
screenshots: build
	./tools/shots/shots.sh
