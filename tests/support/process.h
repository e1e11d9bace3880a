#pragma once
// Programs, folders, ports and sockets for tests of the real thing. Nothing leaves loopback.
#include <chrono>
#include <filesystem>
#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace jembatan::support {

/// A folder that goes away with the test.
class TemporaryFolder {
 public:
  TemporaryFolder();
  ~TemporaryFolder();
  TemporaryFolder(const TemporaryFolder&) = delete;
  TemporaryFolder& operator=(const TemporaryFolder&) = delete;
  const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
};

void write_file(const std::filesystem::path& path, const std::string& text);
std::string read_file(const std::filesystem::path& path);

/// A port of 127.0.0.1 that is free for UDP and TCP at this moment, and was not given out before.
int free_port();

/// Polls until the condition holds; false after the time.
bool eventually(const std::function<bool()>& condition,
                std::chrono::milliseconds within = std::chrono::seconds(60));

struct Finished {
  int exit_code = -1;
  std::string out;
  std::string error;
};
/// The library of the package libfaketime, which gives a program another time of day.
std::string faketime_library();

/// Runs a program to its end. `environment`: "NAME=VALUE" on top of the test's own.
Finished run(const std::vector<std::string>& command, const std::vector<std::string>& environment = {});

/// A program in the background; killed with the object.
class Background {
 public:
  Background(const std::vector<std::string>& command, const std::filesystem::path& log,
             const std::vector<std::string>& environment = {});
  ~Background();
  Background(const Background&) = delete;
  Background& operator=(const Background&) = delete;
  int process() const { return process_; }
  void signal(int number) const;
  /// Waits for its end; gives its exit code, or minus the signal that ended it.
  std::optional<int> wait(std::chrono::milliseconds within = std::chrono::seconds(60));
  bool running();

 private:
  int process_ = -1;
  std::optional<int> ended_;
};

/// A UDP socket on 127.0.0.1 (or another loopback address).
class UdpPeer {
 public:
  explicit UdpPeer(const std::string& address = "127.0.0.1", int port = 0);
  ~UdpPeer();
  UdpPeer(const UdpPeer&) = delete;
  UdpPeer& operator=(const UdpPeer&) = delete;
  int port() const { return port_; }
  void send(const std::string& address, int port, const std::vector<unsigned char>& datagram) const;
  /// The next datagram; empty after the time.
  std::vector<unsigned char> receive(std::chrono::milliseconds within) const;
  int from() const { return from_; }  ///< the port that the last one came from

 private:
  int fd_ = -1;
  int port_ = 0;
  mutable int from_ = 0;
};

/// A TCP connection to 127.0.0.1, for what no proper client would send.
class TcpPeer {
 public:
  explicit TcpPeer(int port);
  ~TcpPeer();
  TcpPeer(const TcpPeer&) = delete;
  TcpPeer& operator=(const TcpPeer&) = delete;
  bool connected() const { return fd_ >= 0; }
  /// False if the other side has closed.
  bool send(std::string_view octets) const;
  /// What comes until the other side closes, or the time is over.
  std::string receive(std::chrono::milliseconds within) const;
  /// What comes at first: up to 64 KiB.
  std::string receive_some(std::chrono::milliseconds within) const;
  /// True if the other side closes within the time.
  bool closes(std::chrono::milliseconds within) const;

 private:
  int fd_ = -1;
};

}  // namespace jembatan::support
