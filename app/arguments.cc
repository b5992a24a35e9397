#include "app/arguments.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cstdint>
#include <iostream>

namespace {

// A number of this range; without an upper end where that is infinite.
CLI::Validator within(double low, double high, bool open) {
  const bool half = std::isinf(high);
  const std::string words = half   ? (open ? fmt::format("above {}", low) : fmt::format("at least {}", low))
                            : open ? fmt::format("between {} and {}", low, high)
                                   : fmt::format("from {} to {}", low, high);
  return CLI::Validator(
      [=](std::string& text) {
        double value = 0;
        if (!CLI::detail::lexical_cast(text, value)) return fmt::format("{} is no number", text);
        const bool fits = (open ? value > low : value >= low) && value <= high;
        return fits ? std::string() : fmt::format("{} is not {}", text, words);
      },
      words);
}

}  // namespace

Argument& Argument::required() {
  option_->required();
  return *this;
}

Argument& Argument::with_default() {
  option_->capture_default_str();
  return *this;
}

Argument& Argument::between(double low, double high) {
  option_->check(within(low, high, false));
  return *this;
}

Argument& Argument::positive() {
  option_->check(within(0, std::numeric_limits<double>::infinity(), true));
  return *this;
}

Argument& Argument::one_of(const std::vector<std::string>& words) {
  const std::string list = fmt::format("{}", fmt::join(words, ", "));
  option_->check(CLI::Validator(
      [=](std::string& text) {
        return std::find(words.begin(), words.end(), text) != words.end() ? std::string()
                                                                          : fmt::format("{} is none of {}", text, list);
      },
      fmt::format("{}", fmt::join(words, "|"))));
  return *this;
}

Argument& Argument::count() {
  option_->transform(CLI::Validator(
      [](std::string& text) {
        std::string digits = text;
        std::uint64_t times = 1;
        if (!digits.empty() && (digits.back() == 'k' || digits.back() == 'M')) {
          times = digits.back() == 'k' ? 1'000 : 1'000'000;
          digits.pop_back();
        }
        std::uint64_t value = 0;
        if (digits.empty() || digits.size() > 12 ||
            !std::all_of(digits.begin(), digits.end(), [](char c) { return c >= '0' && c <= '9'; }) ||
            !CLI::detail::lexical_cast(digits, value))
          return fmt::format("{} is no count, as 20000, 500k or 2M", text);
        text = fmt::format("{}", value * times);
        return std::string();
      },
      "COUNT"));
  return *this;
}

Argument& Argument::values(int least, int most) {
  option_->expected(least, most);
  return *this;
}

Argument& Argument::separated_by(char separator) {
  option_->delimiter(separator);
  return *this;
}

Argument& Argument::one_each() {
  option_->allow_extra_args(false);
  return *this;
}

Argument& Argument::not_with(const std::string& other) {
  option_->excludes(other);
  return *this;
}

Arguments::Arguments(const std::string& description)
    : own_(std::make_shared<CLI::App>(description)), app_(own_.get()) {}

Arguments Arguments::command(const std::string& name, const std::string& description) {
  return Arguments(app_->add_subcommand(name, description));
}

std::vector<Arguments> Arguments::commands() {
  std::vector<Arguments> all;
  for (CLI::App* command : app_->get_subcommands({})) all.push_back(Arguments(command));
  return all;
}

template <class T>
Argument Arguments::option(const std::string& names, T& value, const std::string& help) {
  return Argument(app_->add_option(names, value, help));
}
template Argument Arguments::option(const std::string&, std::string&, const std::string&);
template Argument Arguments::option(const std::string&, int&, const std::string&);
template Argument Arguments::option(const std::string&, std::uint32_t&, const std::string&);
template Argument Arguments::option(const std::string&, std::uint64_t&, const std::string&);
template Argument Arguments::option(const std::string&, float&, const std::string&);
template Argument Arguments::option(const std::string&, double&, const std::string&);
template Argument Arguments::option(const std::string&, std::vector<std::string>&, const std::string&);
template Argument Arguments::option(const std::string&, std::vector<double>&, const std::string&);

Argument Arguments::flag(const std::string& names, bool& value, const std::string& help) {
  return Argument(app_->add_flag(names, value, help));
}

void Arguments::version(const std::string& text) {
  app_->set_version_flag("--version", text);
}
void Arguments::needs_command() {
  app_->require_subcommand(1);
}
void Arguments::help_width(std::size_t columns) {
  app_->get_formatter()->column_width(columns);
}
bool Arguments::given() const {
  return app_->parsed();
}

bool Arguments::parse(int argc, char** argv) {
  try {
    app_->parse(argc, argv);
  } catch (const CLI::RequiredError& e) {
    // Without a command CLI11 says that one is missing; with a wrong one too.
    const std::vector<std::string> rest = app_->remaining();
    if (!rest.empty() && app_->get_subcommands().empty())
      fmt::print(stderr, "{} is no {}\nRun with --help for more information.\n", rest.front(),
                 rest.front().front() == '-' ? "option before a command" : "command");
    else
      app_->exit(e, std::cout, std::cerr);
    status_ = 2;
    return false;
  } catch (const CLI::ParseError& e) {
    status_ = app_->exit(e, std::cout, std::cerr) == 0 ? 0 : 2;
    return false;
  }
  return true;
}
