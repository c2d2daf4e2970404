#!/bin/sh
# Usage: setup.sh PYTHON VENV [tested | newest | oldest], or setup.sh --bench for what only the benchmarks need
# Makes a virtual environment with Wexagraph, its extras and the tools for developing it; on Debian, installs what
# the tests need: qpdf, poppler, unzip, age, groff, gpg, a token in software, Chromium and LibreOffice Calc, which judge
# results, Dovecot, the server they read from, exim, which carries what they send, and the libraries of the second page
# engine. Courier, Cyrus and nginx are unpacked beside it.
set -eu
python=$1
venv=${2:-}
parts=${3:-tested}

missing=""
if [ "$python" = --bench ]; then
    command -v chromium >/dev/null || missing="$missing chromium"
    command -v pdftotext >/dev/null || missing="$missing poppler-utils"
    command -v zip >/dev/null || missing="$missing zip"
else
    command -v qpdf >/dev/null || missing="$missing qpdf"
    command -v pdftotext >/dev/null || missing="$missing poppler-utils"
    command -v unzip >/dev/null || missing="$missing unzip"
    [ -x /usr/sbin/apache2 ] || missing="$missing apache2-bin"
    [ -x /usr/sbin/sshd ] || missing="$missing openssh-server openssh-client"
    command -v age >/dev/null || missing="$missing age"
    command -v munpack >/dev/null || missing="$missing mpack"
    command -v ripmime >/dev/null || missing="$missing ripmime"
    command -v faketime >/dev/null || missing="$missing faketime"
    command -v softhsm2-util >/dev/null || missing="$missing softhsm2"
    command -v gpg-agent >/dev/null || missing="$missing gpg gpg-agent"
    command -v groff >/dev/null || missing="$missing groff-base"
    command -v chromium >/dev/null || missing="$missing chromium"
    command -v soffice >/dev/null || missing="$missing libreoffice-calc"
    /usr/bin/python3 -c 'import uno' 2>/dev/null || missing="$missing python3-uno"
    # on a machine that has another mail server, that one stays
    [ -e /usr/sbin/sendmail ] || missing="$missing exim4-daemon-light"
    [ -x /usr/lib/dovecot/imap ] || missing="$missing dovecot-imapd"
    [ -x /usr/lib/dovecot/pop3 ] || missing="$missing dovecot-pop3d"
    "$python" -c 'import ensurepip' 2>/dev/null || missing="$missing python3-venv"
    ldconfig -p 2>/dev/null | grep -q libpangoft2-1.0 || missing="$missing libpangoft2-1.0-0 libharfbuzz-subset0"
fi
# Debian lets no two IMAP servers stand beside one another, and nginx would begin to serve: these are unpacked, with the
# libraries that they lack
unpack() {
    folder=$(mktemp -d)
    for server in "courier-imap courier-pop" "cyrus-imapd cyrus-pop3d" "nginx-light libnginx-mod-http-dav-ext"; do
        # shellcheck disable=SC2086
        (cd "$folder" && apt-get install -s --no-install-recommends $server |
            awk '/^Inst/ && $2 !~ /^exim4/ {print $2}' | xargs apt-get download -qq 2>/dev/null)
    done
    for package in "$folder"/*.deb; do
        dpkg -x "$package" "$folder/servers"
    done
    mkdir -p "$venv"
    rm -rf "$venv/servers"
    mv "$folder/servers" "$venv/servers"
    rm -rf "$folder"
}

installed=
lacking=
[ "$python" = --bench ] || [ -x "$venv/servers/usr/sbin/nginx" ] || lacking=" Courier, Cyrus and nginx"
if [ -n "$missing$lacking" ]; then
    if command -v apt-get >/dev/null && [ "$(id -u)" = 0 ]; then
        # at the same time as what pip brings
        (
            export DEBIAN_FRONTEND=noninteractive
            apt-get update -qq
            # shellcheck disable=SC2086
            [ -z "$missing" ] || apt-get install -y -qq --no-install-recommends $missing >/dev/null
            [ -z "$lacking" ] || unpack || echo "Courier, Cyrus and nginx can't be had; their tests are skipped." >&2
        ) &
        installed=$!
    else
        echo "Not installed here, and needed by some tests:$missing$lacking" >&2
    fi
fi
done_installing() {
    [ -z "$installed" ] || wait "$installed"
    installed=
}

if [ "$python" = --bench ]; then
    done_installing
    exit 0
fi
case $missing in *python3-venv*) done_installing ;; esac
"$python" -m venv "$venv"
# what a test imports is compiled when it is imported, which is a small part of it
case $parts in
    tested) constraints=constraints.txt ;;
    newest) constraints=/dev/null ;;
    oldest)
        constraints=$venv/lowest.txt
        "$python" tests/lowest.py >"$constraints"
        ;;
esac
"$venv/bin/python" -m pip install --quiet --no-compile --disable-pip-version-check \
    --constraint "$constraints" --editable ".[cluster,weasyprint,ocr,s3,seal,dns,dev]"
done_installing
