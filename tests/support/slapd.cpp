#include "support/slapd.h"

#include <csignal>
#include <stdexcept>

namespace jembatan::support {
namespace {

const std::filesystem::path kPeople =
    std::filesystem::path(JEMBATAN_SOURCE_DIR) / "plans" / "directory" / "directory";

std::string replaced(std::string text, const std::string& what, const std::string& by) {
  for (std::size_t at = text.find(what); at != std::string::npos; at = text.find(what, at + by.size()))
    text.replace(at, what.size(), by);
  return text;
}

void must(const std::vector<std::string>& command) {
  const Finished done = run(command);
  if (done.exit_code != 0) throw std::runtime_error(command.front() + ": " + done.error + done.out);
}

}  // namespace

ScratchDirectory::ScratchDirectory(const std::string& more) : more_(more) {
  write_file(file("slapd.conf"),
             replaced(read_file(kPeople / "slapd.conf"), "FOLDER", folder_.path().string()));
  std::filesystem::create_directory(folder_.path() / "data");
  must({"/usr/sbin/slapadd", "-q", "-f", file("slapd.conf"), "-l", (kPeople / "people.ldif").string()});
}

void ScratchDirectory::make_certificate(const std::string& names, Valid valid) {
  const std::string key = file("authority.key");
  must({"openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=Reef Line", "-days", "30",
        "-keyout", key, "-out", authority()});
  must({"openssl", "req", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=ldap-1", "-keyout",
        file("server.key"), "-out", file("server.request")});
  write_file(file("names"), "subjectAltName=" + names + "\n");
  std::vector<std::string> sign{"env"};
  if (valid == Valid::once) sign.insert(sign.end(), {"LD_PRELOAD=" + faketime_library(), "FAKETIME=-40d"});
  sign.insert(sign.end(),
              {"openssl", "x509", "-req", "-in", file("server.request"), "-CA", authority(), "-CAkey", key,
               "-CAcreateserial", "-extfile", file("names"), "-out", file("server.pem"), "-days", "20"});
  must(sign);
  has_certificate_ = true;
}

void ScratchDirectory::start() {
  std::string settings = replaced(read_file(kPeople / "slapd.conf"), "FOLDER", folder_.path().string());
  std::string before = more_;
  if (has_certificate_)
    before +=
        "\nTLSCertificateFile " + file("server.pem") + "\nTLSCertificateKeyFile " + file("server.key") + "\n";
  const std::size_t at = settings.find("\ndatabase mdb");
  settings.insert(at, "\n" + before);
  write_file(file("slapd.conf"), settings);
  std::string urls = url() + "/";
  if (has_certificate_) urls += " ldaps://127.0.0.1:" + std::to_string(tls_port_) + "/";
  process_ = std::make_unique<Background>(
      std::vector<std::string>{"/usr/sbin/slapd", "-d", "0", "-f", file("slapd.conf"), "-h", urls},
      folder_.path() / "log");
  if (!eventually([&] { return TcpPeer(port_).connected(); }))
    throw std::runtime_error("slapd does not come up: " + read_file(folder_.path() / "log"));
}

void ScratchDirectory::stop() {
  if (!process_) return;
  process_->signal(SIGTERM);
  (void)process_->wait();
  process_.reset();
}

void ScratchDirectory::change(const std::string& ldif) const {
  write_file(file("change.ldif"), ldif);
  must({"/usr/sbin/slapmodify", "-q", "-f", file("slapd.conf"), "-l", file("change.ldif")});
}

std::string ScratchDirectory::plan(const std::string& servers, const std::string& more) {
  return "\n[[directory]]\nname = \"crew\"\nservers = [" + servers + R"plan(]
account = "cn=jembatan,ou=services,dc=reef,dc=example"
secret = "jangkar-di-dasar-selat"
base = "ou=crew,dc=reef,dc=example"
filter = "(uid={user})"
group_base = "ou=groups,dc=reef,dc=example"
nested = 2
attributes = ["title"]
reply = { Filter-Id = "{directory.title}" }
)plan" + (more.find("answer_within") == std::string::npos ? "answer_within = \"30s\"\n" : "") +
         more + "\n";
}

}  // namespace jembatan::support
