PYTHON ?= python3
VENV := .venv
DEMO := demo-office
JUDGES := acl attr btrfs-progs chromium coreutils iproute2 krb5-user ldap-utils libnss-wrapper mount openssl postgresql procps python3-gssapi python3-samba quota samba \
  samba-ad-provision samba-dsdb-modules samba-vfs-modules slapd util-linux winbind

.PHONY: demo test types compiled tested judges clean

# Most of what comes along is never imported: what is, Python compiles itself, once, if it may keep it.
unexport PYTHONDONTWRITEBYTECODE
PIP := $(VENV)/bin/pip install --quiet --disable-pip-version-check --no-compile
# A new pip finds what is wanted in half the time of one that came with Python; the old one does as well.
NEW = $(PYTHON) -m venv $(VENV) && { $(PIP) --upgrade pip || true; }

$(VENV)/.installed: pyproject.toml
	$(NEW)
	$(PIP) -e '.[all]'
	touch $@

$(VENV)/.tested: pyproject.toml
	$(NEW)
	$(PIP) -e '.[all,test]'
	touch $(VENV)/.installed $@

# The sample office, and a walk through the main questions.
demo: $(VENV)/.installed
	$(VENV)/bin/neatledger demo $(DEMO)

# What the tests ask of the system; as root it is installed, else the tests say what is missing.
judges:
	@for package in $(JUDGES); do \
	  dpkg -s $$package >/dev/null 2>&1 || missing="$$missing $$package"; done; \
	if [ -n "$$missing" ]; then \
	  if [ "$$(id -u)" = 0 ]; then apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	  else echo "not installed (needs root):$$missing"; fi; fi

types: $(VENV)/.tested
	$(VENV)/bin/ruff check src tests bench docs
	$(VENV)/bin/mypy

# Once: else each of the processes that run the tests would do so for itself. In CI nothing may be missing, but later;
# and what cannot be read at all, the tests say.
compiled: $(VENV)/.tested
	@env -u CI $(VENV)/bin/python -m pytest -q --collect-only >/dev/null || true

tested: compiled judges
	$(VENV)/bin/python -m pytest -n 4 --dist loadfile --no-loadscope-reorder

# What is fetched is waited for most of the time, and types are checked by one processor: the rest is done meanwhile.
test:
	$(MAKE) --no-print-directory -j3 types tested

clean:
	rm -rf $(VENV) $(DEMO) build .pytest_cache .mypy_cache .ruff_cache .hypothesis
