# Dexamen. Needed: Go, make; `make test` installs the servers it tests against.
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
COMMIT := $(shell git rev-parse HEAD 2>/dev/null)
LDFLAGS := -s -w -X dexamen/internal/cli.Version=$(VERSION) -X dexamen/internal/cli.Commit=$(COMMIT)
export CGO_ENABLED := 0
BIN := bin/dexamen
DOCSERVER := testbed/bin/docserver
DOCSERVER_VERSION := v1.24.2
S3SERVER := testbed/bin/s3server
LINTER := testbed/bin/golangci-lint

JAVASERVER := testbed/javaserver/target/javaserver-1.jar
OTHERREDIS := testbed/bin/valkey-9.1
SEARCHSERVER := testbed/searchserver/build/2.19.6/launcher.jar

# How packages are tested. With AGAIN=1 what fails is run once more by itself, and told of:
# on a machine that others use all processes may stand still for a minute, and servers,
# which are real, then take each other for dead.
TESTS = $(if $(AGAIN),go run gotest.tools/gotestsum@v1.13.0 --format standard-quiet --rerun-fails=1 --rerun-fails-max-failures=12 --rerun-fails-run-root-test --packages="$(1)" -- $(2),go test $(2) $(1))

# The tests that make test runs at a smaller size, and those of histories and harms.
LONG := TestRealServer|TestRealHistories|TestAHundredKills|TestSoak|TestRedisHistory|TestEtcdHistory|TestWhatAScrubAdvisesHelps|TestOnePercent|TestMomentsOfALog|TestKilledAtAnyMoment|TestEveryHarm|TestPairs|TestTheFirstBackup|TestHistories|TestClusterHistories|TestSearch|TestFolder|TestPinpoint|TestServing|TestMerging|TestUndo|TestExporting|TestAccounts|TestAssumptionsHold|TestBrokenAssumptions|TestProvingARealServer|TestKeyHistories|TestSlotsMove|TestEtcdHistoryGoesBack|TestBytesLike|TestWorkers

.PHONY: install packages release man floors break key-histories fuzz simulate build demo test test-long starved lint vuln bench histories scale keys workers year soak rot search folders real servers screenshots clean

build: ## one static binary, bin/dexamen
	go build -trimpath -ldflags "$(LDFLAGS)" -o $(BIN) ./cmd/dexamen

PREFIX ?= /usr/local
ARCHES := amd64 arm64
NFPM := go run github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.48.0
BOM := go run github.com/CycloneDX/cyclonedx-gomod/cmd/cyclonedx-gomod@v1.9.0

man: ## the manual page, dist/dexamen.1
	mkdir -p dist
	go run ./cmd/manual > dist/dexamen.1

install: build man ## the program, its manual page and completions, below PREFIX (and DESTDIR)
	install -D -m 755 $(BIN) $(DESTDIR)$(PREFIX)/bin/dexamen
	install -D -m 644 dist/dexamen.1 $(DESTDIR)$(PREFIX)/share/man/man1/dexamen.1
	mkdir -p $(DESTDIR)$(PREFIX)/share/bash-completion/completions $(DESTDIR)$(PREFIX)/share/zsh/site-functions
	$(BIN) completion bash > $(DESTDIR)$(PREFIX)/share/bash-completion/completions/dexamen
	$(BIN) completion zsh > $(DESTDIR)$(PREFIX)/share/zsh/site-functions/_dexamen

release: build man ## static programs for Linux, the same bytes whoever builds them; checksums, what they are made of, licences
	for arch in $(ARCHES); do \
	  GOOS=linux GOARCH=$$arch go build -trimpath -ldflags "$(LDFLAGS) -buildid=" -o dist/dexamen-linux-$$arch ./cmd/dexamen || exit 1; done
	packaging/notices.sh > dist/NOTICES
	$(BOM) app -json -main cmd/dexamen -output dist/dexamen.cdx.json .
	cd dist && sha256sum dexamen-linux-* dexamen.cdx.json NOTICES > SHA256SUMS

packages: release ## Debian and RPM packages, in dist
	gzip -9nkf dist/dexamen.1
	$(BIN) config sample > dist/dexamen.yaml
	$(BIN) completion bash > dist/dexamen.bash
	$(BIN) completion zsh > dist/_dexamen
	$(BIN) completion fish > dist/dexamen.fish
	for arch in $(ARCHES); do for kind in deb rpm; do \
	  ARCH=$$arch VERSION=$(or $(PACKAGE_VERSION),0.0.0~$(VERSION)) $(NFPM) package -f packaging/nfpm.yaml -p $$kind -t dist/ || exit 1; done; done

demo: build ## the whole job on a simulated cluster
	$(BIN) demo

test: servers build ## all tests, on real servers where they exist
	DEXAMEN_BIN=$(CURDIR)/$(BIN) DEXAMEN_DOCSERVER=$(CURDIR)/$(DOCSERVER) DEXAMEN_S3SERVER=$(CURDIR)/$(S3SERVER) $(call TESTS,./internal/integration ./...,-timeout 40m -parallel 6)

test-long: servers $(OTHERREDIS) build ## what takes longer: the tests of make test at full size, every harm to every object, histories, a starved machine, fuzzing (FUZZ=10m each, or FUZZ=no)
	DEXAMEN_BIN=$(CURDIR)/$(BIN) DEXAMEN_DOCSERVER=$(CURDIR)/$(DOCSERVER) DEXAMEN_S3SERVER=$(CURDIR)/$(S3SERVER) DEXAMEN_OTHER_REDIS=$(CURDIR)/testbed/bin DEXAMEN_LONG=1 DEXAMEN_HARM=all DEXAMEN_PAIRS=$(or $(PAIRS),12) DEXAMEN_HISTORIES=$(or $(HISTORIES),1000) \
	  $(call TESTS,./internal/integration ./internal/cli,-timeout 4h -parallel 4 -run '$(LONG)')
	DEXAMEN_OTHER_REDIS=$(CURDIR)/testbed/bin go test -timeout 20m -run TestConformanceOfOtherVersions ./internal/engine/redis
	$(MAKE) starved BACKUPS=12 STARVED=TestFirstBackups
	$(if $(filter no,$(FUZZ)),,$(MAKE) fuzz)

starved: servers build ## suites and first backups on a machine that has little left (BACKUPS=500)
	go test -c -o testbed/bin/integration.test ./internal/integration
	cd internal/integration && DEXAMEN_BACKUPS=$(or $(BACKUPS),500) $(CURDIR)/testbed/starve.sh $(CURDIR)/testbed/bin/integration.test -test.timeout 60m -test.run '$(or $(STARVED),TestFirstBackups|TestContract|TestFollowing|TestMemberKilled|TestRestoringAWhole)'

lint: $(LINTER) ## golangci-lint with .golangci.yml
	go vet ./...
	$(LINTER) run ./...

vuln: ## known faults of what is imported, where their list can be reached
	go run golang.org/x/vuln/cmd/govulncheck@v1.9.0 ./cmd/...

bench: ## rates beside their floors, and peak memory
	go test -run '^$$' -bench . -benchtime 1x -timeout 60m ./internal/core/tree ./internal/core/fold ./internal/core/store ./internal/integration

floors: servers build ## what each kind of work costs beside bare tools, into docs/performance.md (FLOOR=part of a row's name)
	DEXAMEN_BIN=$(CURDIR)/$(BIN) DEXAMEN_S3SERVER=$(CURDIR)/$(S3SERVER) DEXAMEN_FLOORS=1 DEXAMEN_FLOOR='$(FLOOR)' go test -timeout 60m -v -run 'TestFloors$$' ./internal/integration

histories: ## thousands of random histories (HISTORIES=5000)
	DEXAMEN_HISTORIES=$(or $(HISTORIES),2000) go test -timeout 3h -parallel 8 -run 'TestHistories|TestClusterHistories' ./internal/integration

key-histories: servers ## random histories of real Redis and etcd clusters, each kind (KEY_HISTORIES=100)
	DEXAMEN_KEY_PLAYS=$(or $(KEY_HISTORIES),100) DEXAMEN_KEY_SEED=$(or $(SEED),1) go test -timeout 3h -v -run 'TestKeyHistories' ./internal/integration

scale: build ## two shards with five million documents, and with a tenth of them
	DEXAMEN_BIN=$(CURDIR)/$(BIN) DEXAMEN_SCALE=$(or $(SCALE),5000000) go test -timeout 60m -v -run TestScale ./internal/integration

keys: servers build ## a million keys of etcd and Redis beside their floors, and capture lag (KEYS=1000000)
	DEXAMEN_BIN=$(CURDIR)/$(BIN) DEXAMEN_KEYS=$(or $(KEYS),1000000) go test -timeout 60m -v -run 'TestRedisScale|TestEtcdScale|TestCaptureLag' ./internal/integration

year: ## a year of two daemons on a clock that is not real (DAYS=365)
	DEXAMEN_YEAR_DAYS=$(or $(DAYS),365) go test -timeout 60m -v -run TestAYear ./internal/daemon

soak: servers build ## continuous capture, the daemon killed every few seconds (SOAK=11m)
	DEXAMEN_BIN=$(CURDIR)/$(BIN) DEXAMEN_SOAK=$(or $(SOAK),11m) go test -timeout 60m -v -run TestSoak ./internal/integration

workers: servers build ## workers in networks of their own: a snapshot by 1 to 8 of them, then 100 rounds of snapshot, capture and restore while they are harmed (HARMED=100; as root; ip and tc)
	DEXAMEN_SCALING=1 DEXAMEN_HARMED=$(or $(HARMED),100) DEXAMEN_BIN=$(CURDIR)/$(BIN) go test -timeout 100m -v -run 'TestWorkersScale|TestWorkersAreHarmed' ./internal/integration

break: servers build ## a daemon under a supervisor, broken on purpose: what each channel tells, after how long (as root)
	DEXAMEN_BREAK=1 DEXAMEN_BIN=$(CURDIR)/$(BIN) DEXAMEN_S3SERVER=$(CURDIR)/$(S3SERVER) go test -timeout 60m -v -run TestInService ./internal/integration

fuzz: ## all that parses, each for a while (FUZZ=10m)
	@for package in $$(go list ./internal/...); do \
	  for name in $$(go test -list '^Fuzz' $$package 2>/dev/null | grep '^Fuzz'); do \
	    echo "$$package $$name"; go test -run '^$$' -fuzz "^$$name\$$" -fuzztime $(or $(FUZZ),10m) $$package || exit 1; \
	  done; done

simulate: ## many schedules of processes that stand still, die and have wrong clocks (SCHEDULES=100000), then with safeguards taken out
	DEXAMEN_SCHEDULES=$(or $(SCHEDULES),100000) DEXAMEN_SEED=$(or $(SEED),1) go test -timeout 0 -v -run 'TestSimulation$$' ./internal/core/store
	DEXAMEN_FAULTS=3000 go test -timeout 0 -v -run TestTheSimulationFindsFaults ./internal/core/store

rot: servers ## thousands of flipped bits, and minutes of eight writers beside a reclaim (FLIPS=2000 CROWD=120)
	DEXAMEN_FLIPS=$(or $(FLIPS),2000) DEXAMEN_CROWD=$(or $(CROWD),120) DEXAMEN_S3SERVER=$(CURDIR)/$(S3SERVER) go test -timeout 60m -v -run 'TestRot|TestACrowd|TestThePower' ./internal/core/store

search: servers build ## a million documents of a search cluster beside their floors (DOCUMENTS=1000000), histories (SEARCH_HISTORIES=100)
	DEXAMEN_BIN=$(CURDIR)/$(BIN) DEXAMEN_SEARCH_DOCUMENTS=$(or $(DOCUMENTS),1000000) DEXAMEN_SEARCH_HISTORIES=$(or $(SEARCH_HISTORIES),100) DEXAMEN_SEARCH_INDICES=2000 DEXAMEN_LONG=1 \
	  go test -timeout 120m -v -run 'TestSearch' ./internal/integration

folders: build ## a large file of which pages change, many small ones, files of a megabyte, beside cp -a (MIB=2048)
	DEXAMEN_BIN=$(CURDIR)/$(BIN) DEXAMEN_FOLDER_MIB=$(or $(MIB),2048) go test -timeout 60m -v -run TestFolderCosts ./internal/integration

real: servers ## the real document server with 200,000 documents
	DEXAMEN_DOCSERVER=$(CURDIR)/$(DOCSERVER) DEXAMEN_REAL_DOCUMENTS=200000 go test -timeout 60m -v -run TestRealServer ./internal/integration

servers: $(DOCSERVER) $(S3SERVER) $(JAVASERVER) $(SEARCHSERVER) ## the real servers that tests need
	@for s in redis-server redis-sentinel etcd etcdctl promtool runsv jq sudo ssh-keygen /usr/sbin/sshd; do command -v $$s > /dev/null || missing=1; done; test -z "$$missing" || { \
	  apt-get update > /dev/null; mkdir -p testbed/bin; \
	  DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends redis-server redis-sentinel etcd-server etcd-client prometheus runit jq openssh-server openssh-client sudo > testbed/bin/apt.log 2>&1 \
	    || { tail -5 testbed/bin/apt.log; echo 'install redis-server, redis-sentinel, etcd-server, etcd-client, prometheus, runit, jq, openssh-server and sudo (Debian packages) as root'; exit 1; }; }

$(OTHERREDIS): testbed/otherredis/prepare.sh
	testbed/otherredis/prepare.sh testbed/bin

$(S3SERVER): testbed/s3server/go.mod testbed/s3server/go.sum
	cd testbed/s3server && go build -trimpath -o ../bin/s3server github.com/versity/versitygw/cmd/versitygw

# Another document server, of another ecosystem.
$(JAVASERVER): testbed/javaserver/pom.xml testbed/javaserver/src/main/java/testbed/Main.java
	@for s in java javac mvn; do command -v $$s > /dev/null || missing=1; done; test -z "$$missing" || { \
	  apt-get update > /dev/null; mkdir -p testbed/bin; \
	  DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends default-jdk-headless maven > testbed/bin/apt-java.log 2>&1 \
	    || { tail -5 testbed/bin/apt-java.log; echo 'install default-jdk-headless and maven (Debian packages) as root'; exit 1; }; }
	cd testbed/javaserver && mvn -q -B package dependency:copy-dependencies
	touch $@

# A search server, of which a newer release is taken too where there is a JDK for it.
$(SEARCHSERVER): testbed/searchserver/pom.xml testbed/searchserver/prepare.sh testbed/searchserver/src/SearchServer.java | $(JAVASERVER)
	testbed/searchserver/prepare.sh > /dev/null
	touch $@

$(LINTER): testbed/linter/go.mod testbed/linter/go.sum
	cd testbed/linter && go build -trimpath -o ../bin/golangci-lint github.com/golangci/golangci-lint/v2/cmd/golangci-lint

# Modules of their own, so that none of the servers' dependencies reach the product.
$(DOCSERVER): testbed/docserver/go.mod testbed/docserver/go.sum
	cd testbed/docserver && go mod vendor
	echo $(DOCSERVER_VERSION) > testbed/docserver/vendor/github.com/FerretDB/FerretDB/build/version/version.txt
	cd testbed/docserver && go build -mod=vendor -trimpath -o ../bin/docserver github.com/FerretDB/FerretDB/cmd/ferretdb

screenshots: build ## docs/screenshots from the demo data (needs xterm, Xvfb, ImageMagick)
	docs/screenshots.sh $(BIN)

clean:
	rm -rf bin testbed/bin testbed/docserver/vendor testbed/javaserver/target testbed/searchserver/build
