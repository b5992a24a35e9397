// The one exception type of the library.
#pragma once
#include <stdexcept>
#include <string>

namespace icefield {

// What an error means for the caller; the command-line tool turns it into its exit status.
enum class ErrorKind {
  usage,        // a call or a setting makes no sense
  input,        // a file or a photo set cannot be worked with
  computation,  // sound input, but no result could be computed from it
  resource,     // disk full, read-only folder, memory budget, a survey in use
  interrupted,  // the monitor asked to stop
};

// An error names what it is about (a file, a setting, a photo), what is wrong with it and what to do.
// what() reads "SUBJECT: FAULT; REMEDY".
class Error : public std::runtime_error {
 public:
  Error(ErrorKind kind, std::string subject, std::string fault, std::string remedy);

  ErrorKind kind() const { return kind_; }
  const std::string& subject() const { return subject_; }
  const std::string& fault() const { return fault_; }
  const std::string& remedy() const { return remedy_; }

 private:
  ErrorKind kind_;
  std::string subject_, fault_, remedy_;
};

}  // namespace icefield
