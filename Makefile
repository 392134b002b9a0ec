# The front door. Each of these sets up what it needs by itself.
#   make demo     build, and show the demo in the browser
#   make test     build and run all tests
#   make build    the programs, in build/bin
#   make bench    measure the server against the limits of the machine
#   make fuzz     feed each parser with invented input, for 20 seconds each, and a whole server and its control interface
#                 for a minute each
#   make soak     use a server in every way at once for 10 minutes, as built for use and with sanitizers
#   make package  a package for Debian 12, in build/package
#   make package-test  installs that in a clean Debian, shows a page and removes it
#   make format   put the code into its form
#   make lint     what a compiler does not see
#   make picture  draw the pictures of docs/
#   make screenshots  take those of docs/screenshots anew, from the demo
.PHONY: package package-test build demo test bench fuzz soak format lint picture screenshots packages-build packages-demo packages-test packages-node

BUILD_PACKAGES = g++ cmake ninja-build ccache mold make libboost1.81-dev zlib1g-dev libfmt-dev libcli11-dev nlohmann-json3-dev \
  libdtl-dev libtomlplusplus-dev libspdlog-dev libsystemd-dev libqrencode-dev pkg-config
DEMO_PACKAGES = php8.2-cgi php8.2-sqlite3 perl python3
TEST_PACKAGES = catch2 $(DEMO_PACKAGES) php8.2-fpm libfcgi-dev libfcgi-perl util-linux procps curl wget chromium git sqlite3 \
  ruby lua5.4 tcl nodejs openjdk-17-jdk-headless r-base-core \
  wrk python3-yaml python3-jsonschema python3-prometheus-client
# Where they are not of Debian, another Node.js and npm will do.
NODE_PACKAGES = nodejs npm
LINT_PACKAGES = clang-format clang-tidy
SOURCES = $(shell git ls-files 'src/*.cpp' 'src/*.hpp' 'tests/*.cpp' 'tests/*.hpp' 'bench/*.cpp' 'demo/*.cpp' 'fuzz/*.cpp' 'fuzz/*.hpp')

build: packages-build
	@test -f build/release/build.ninja || cmake --preset release
	cmake --build build/release
	@ln -sf build/release/compile_commands.json compile_commands.json

demo: packages-demo build
	@echo
	@build/bin/uporter serve --settings demo/uporter.toml

test: packages-test
	cd tests/har && npm ci --no-audit --no-fund --loglevel=error
	cmake --preset check
	cmake --build build/check
	cmake --preset threads
	cmake --build build/threads --target server_tests
	ctest --test-dir build/check --output-on-failure -j 2
	ctest --test-dir build/threads --output-on-failure -j 2 -R '^server/(exchanges|persistent|life|pools|reload|streams)'

bench: build
	@tools/packages wrk python3 strace $(DEMO_PACKAGES)
	cmake --build build/release --target floors
	bench/run.py build/bin

# From what is committed, as anybody else would build it.
package: packages-build
	@tools/packages debhelper dpkg-dev lintian librsvg2-bin
	rm -rf build/package && mkdir -p build/package/source
	git archive HEAD | tar -x -C build/package/source
	cd build/package/source && PORTER_COMMIT=$$(git rev-parse --short=12 HEAD) \
	  SOURCE_DATE_EPOCH=$$(git log -1 --format=%ct) dpkg-buildpackage -b -us -uc -d
	lintian --fail-on error,warning build/package/*.deb

# Installs it where nothing else is; as root.
package-test: package
	@tools/packages mmdebstrap curl
	tools/package-test

fuzz: packages-test
	@tools/packages clang
	fuzz/run
	cmake --preset check >/dev/null
	cmake --build build/check --target uporterd
	fuzz/whole_server.py build/check/bin/uporterd
	fuzz/control.py build/check/bin/uporterd

soak: build packages-test
	cmake --preset check >/dev/null
	cmake --build build/check --target uporterd uporter
	tests/soak/soak.py build/bin
	tests/soak/soak.py build/check/bin

format:
	@tools/packages $(LINT_PACKAGES)
	clang-format -i $(SOURCES)
	cd console && npm run --silent format

lint: packages-build
	@tools/packages $(LINT_PACKAGES) clang
	clang-format --dry-run -Werror $(SOURCES)
	cd console && npm run --silent check
	@cmake -S . -B build/lint -G Ninja -DCMAKE_CXX_COMPILER=clang++ -DCMAKE_DISABLE_PRECOMPILE_HEADERS=ON >/dev/null
	@git ls-files 'src/*.cpp' | xargs -P 2 -n 2 clang-tidy -p build/lint --quiet

picture:
	@tools/packages graphviz
	dot -Tsvg docs/way-of-a-request.dot -o docs/way-of-a-request.svg
	dot -Tsvg docs/life-of-a-process.dot -o docs/life-of-a-process.svg

screenshots: packages-demo build
	@tools/packages xterm xvfb imagemagick chromium
	cd console && npm ci --no-audit --no-fund --loglevel=error
	tools/screenshots

packages-build: packages-node
	@tools/packages $(BUILD_PACKAGES)

packages-demo: packages-node
	@tools/packages $(BUILD_PACKAGES) $(DEMO_PACKAGES)

packages-test: packages-node
	@tools/packages $(BUILD_PACKAGES) $(TEST_PACKAGES)

packages-node:
	@command -v npm >/dev/null || tools/packages $(NODE_PACKAGES)
