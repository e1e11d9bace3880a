# To be sourced: `install_packages NAME…` installs what is missing of Debian's packages, as root or with sudo.

build_packages=(
  g++ cmake ninja-build ccache pkg-config
  libasio-dev libc-ares-dev libcli11-dev libcpp-httplib-dev libcrypt-dev libfmt-dev libhowardhinnant-date-dev libldap-dev libmicrohttpd-dev libpcap-dev libpng-dev libpq-dev libpqxx-dev libqrencode-dev libre2-dev libspdlog-dev libsqlite3-dev libsqlitecpp-dev
  libtomlplusplus-dev libutf8proc-dev nettle-dev nlohmann-json3-dev
  libssl-dev zlib1g-dev libbrotli-dev tzdata
)
test_packages=(clang-format clang-tidy gnuplot-nox libbenchmark-dev libgmock-dev libfaketime libgtest-dev iproute2 libyaml-cpp-dev openssl postgresql-15 python3 slapd)

install_packages() {
  local missing=()
  local name
  for name in "$@"; do
    dpkg-query -W -f '${Status}' "$name" 2>/dev/null | grep -q 'ok installed' || missing+=("$name")
  done
  [ ${#missing[@]} -eq 0 ] && return 0
  echo "installing: ${missing[*]}"
  local as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || { echo "these packages are missing, and there is no sudo: ${missing[*]}" >&2; return 1; }
    as_root=(sudo)
  fi
  "${as_root[@]}" apt-get update -qq
  if [[ " ${missing[*]} " == *" slapd "* ]]; then  # the program alone, no directory that runs by itself
    echo 'slapd slapd/no_configuration boolean true' | "${as_root[@]}" debconf-set-selections
  fi
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}
