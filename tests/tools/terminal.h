// A program in a terminal of its own, as a person has it before him.
#pragma once
#include <string>
#include <vector>

namespace icefield::test {

class Terminal {
 public:
  explicit Terminal(const std::vector<std::string>& words);
  ~Terminal();
  Terminal(const Terminal&) = delete;
  Terminal& operator=(const Terminal&) = delete;

  // Reads what the program writes until this is in it; false when the program ended before.
  bool wait_for(const std::string& text);
  void type(const std::string& keys);
  int wait();  // reads to the end; exit status, 128 + signal where it was killed

  const std::string& written() const { return written_; }  // with all control sequences
  // The lines that a person sees in the end: what was written over or cleared is gone.
  std::vector<std::string> lines() const;

 private:
  bool read_some();
  int master_ = -1, child_ = -1;
  std::string written_;
};

}  // namespace icefield::test
