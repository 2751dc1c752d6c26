# make help says what there is.
export CGO_ENABLED = 0

GO      ?= go
PROGRAM := bin/oaken

.PHONY: help build demo test check setup fuzz bench man clean

# Each line of help stands behind a target as ## text.
help: ## what there is
	@awk -F ':.*## ' '/^[a-z]+:.*## / { printf "make %-6s  %s\n", $$1, $$2 }' $(MAKEFILE_LIST)

build: ## bin/oaken
	$(GO) build -trimpath -ldflags "-s -w" -o $(PROGRAM) ./cmd/oaken

demo: build ## play a full example on the sample data
	rm -rf demo/brindle-bay demo/brindle-bay-tarek
	mkdir -p demo
	@$(PROGRAM) --in demo demo brindle-bay
	@echo; echo "A month in a whole pipeline: $(PROGRAM) demo --pipeline demo/month"
	@echo; echo "The program is $(PROGRAM). To call it by its name: export PATH=\"$(CURDIR)/bin:\$$PATH\""

# What the tests use besides Go: database servers and their own clients as outside
# judges, archive programs and programs for pictures and sounds as other people's
# editors, an object-relational mapper, and a browser to look at pages. Tests whose program can't be had are left out, and say so;
# LibreOffice is used when it is there.
setup: ## install what the tests need
	@for p in sqlite3 zip unzip; do command -v $$p >/dev/null || missing="$$missing $$p"; done; \
	for p in chromium sox; do command -v $$p >/dev/null || more="$$more $$p"; done; \
	test -x /usr/bin/convert || more="$$more imagemagick"; \
	command -v pg_dump >/dev/null && ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || more="$$more postgresql"; \
	command -v mariadb-dump >/dev/null && command -v mariadbd >/dev/null || more="$$more mariadb-server"; \
	/usr/bin/python3 -c "import django, psycopg2, MySQLdb" 2>/dev/null || more="$$more python3-django python3-psycopg2 python3-mysqldb"; \
	if [ -n "$$missing$$more" ]; then apt-get update -qq || true; fi; \
	for p in $$more; do DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$p >/dev/null 2>&1 || echo "$$p can't be installed: the tests that use it are left out"; done; \
	if [ -n "$$missing" ]; then DEBIAN_FRONTEND=noninteractive apt-get install -y -qq $$missing; fi

check: ## form, vet, staticcheck, known holes: seconds, when built once
	@files=$$(gofmt -l $$(git ls-files '*.go')); if [ -n "$$files" ]; then echo "gofmt would change:"; echo "$$files"; exit 1; fi
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	@if curl -sfm 5 https://vuln.go.dev/index/db.json >/dev/null 2>&1; then $(GO) tool govulncheck ./...; \
	else echo "govulncheck: its data can't be reached from here, so that it was not run"; fi

test: setup check ## install what the tests need and run all of them
	@corpus=$$(test/corpus); servers=$$(test/servers start); trap 'test/servers stop' EXIT; \
	export $$servers OAKEN_CORPUS=$$corpus; \
	OAKEN_SCENES=$${corpus:+$$corpus/usr/share/assimp/models} $(GO) test -count=1 -timeout 30m ./...

# Each fuzz target for a while.
FUZZTIME ?= 30s
fuzz: ## every fuzz target for FUZZTIME (30s)
	@for pkg in $$($(GO) list ./...); do \
	  for f in $$($(GO) test -list '^Fuzz' $$pkg | grep '^Fuzz'); do \
	    echo "$$pkg $$f"; $(GO) test -run '^$$' -fuzz "^$$f$$" -fuzztime $(FUZZTIME) $$pkg || exit 1; \
	  done; \
	done

bench: ## the benchmarks beside the code; the ratio scripts are in bench/
	$(GO) test -run '^$$' -bench . ./...

man: ## manual pages in bin/man
	$(GO) run ./tools/man bin/man

clean: ## take away what was built
	rm -rf bin demo
