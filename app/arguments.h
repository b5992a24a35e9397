// What a program takes on its command line. CLI11 does the work, in arguments.cc alone: its headers cost every file
// that reads them ten seconds of compiling.
#pragma once
#include <memory>
#include <string>
#include <vector>

namespace CLI {
class App;
class Option;
}  // namespace CLI

// One of them; what is said of it is said in a chain.
class Argument {
 public:
  explicit Argument(CLI::Option* option) : option_(option) {}
  Argument& required();
  Argument& with_default();  // told in the help; the value is the one that the variable has now
  Argument& between(double low, double high);
  Argument& positive();
  Argument& one_of(const std::vector<std::string>& words);
  Argument& values(int least, int most);
  Argument& count();  // a whole number, also as 500k or 2M
  Argument& separated_by(char separator);
  Argument& one_each();  // one value at a time; given again it adds another
  Argument& not_with(const std::string& other);

 private:
  CLI::Option* option_;
};

// Of a program, or of one of its commands. The variables must outlive the parsing.
class Arguments {
 public:
  explicit Arguments(const std::string& description);
  Arguments command(const std::string& name, const std::string& description);
  std::vector<Arguments> commands();
  // The type is one of: std::string, int, std::uint32_t, std::uint64_t, float, double, and vectors of string and
  // double.
  template <class T>
  Argument option(const std::string& names, T& value, const std::string& help = "");
  Argument flag(const std::string& names, bool& value, const std::string& help = "");
  void version(const std::string& text);  // --version
  void needs_command();
  void help_width(std::size_t columns);  // of the names

  // True when the program is to go on. Otherwise help or an error has been printed: status() is 0 after help.
  bool parse(int argc, char** argv);
  int status() const { return status_; }
  bool given() const;  // whether this command was

 private:
  explicit Arguments(CLI::App* app) : app_(app) {}
  std::shared_ptr<CLI::App> own_;
  CLI::App* app_;
  int status_ = 0;
};
