// Values of a JSON file, read with their place in it.
#pragma once
#include <fmt/format.h>

#include <Eigen/Geometry>
#include <cmath>
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "icefield/base/error.h"

namespace icefield {

// Reads with the place of the fault in the error.
class JsonPlace {
 public:
  JsonPlace(const nlohmann::ordered_json& value, std::string file, std::string name, std::string remedy)
      : value_(value), file_(std::move(file)), name_(std::move(name)), remedy_(std::move(remedy)) {}

  JsonPlace at(const std::string& key) const {
    if (!value_.is_object() || !value_.contains(key)) fail("'" + key + "' is missing");
    return {value_[key], file_, name_.empty() ? key : name_ + "." + key, remedy_};
  }
  bool has(const std::string& key) const { return value_.is_object() && value_.contains(key); }
  std::vector<JsonPlace> items() const {
    if (!value_.is_array()) fail("is no list");
    std::vector<JsonPlace> places;
    for (std::size_t i = 0; i < value_.size(); ++i)
      places.emplace_back(value_[i], file_, fmt::format("{}[{}]", name_, i), remedy_);
    return places;
  }
  std::string text() const {
    if (!value_.is_string()) fail("is no text");
    return value_.get<std::string>();
  }
  double number() const {
    if (!value_.is_number() || !std::isfinite(value_.get<double>())) fail("is no number");
    return value_.get<double>();
  }
  int size_px() const {
    const double v = number();
    if (!(v >= 1 && v <= 1e6)) fail("is no image size");
    return static_cast<int>(v);
  }
  std::vector<double> numbers(std::size_t count) const {
    std::vector<double> list;
    for (const JsonPlace& item : items()) list.push_back(item.number());
    if (list.size() != count) fail(fmt::format("should have {} numbers", count));
    return list;
  }
  Eigen::Vector3d vector() const {
    const auto v = numbers(3);
    return {v[0], v[1], v[2]};
  }
  Eigen::Quaterniond quaternion() const {
    const auto v = numbers(4);
    const Eigen::Quaterniond q(v[0], v[1], v[2], v[3]);
    if (std::abs(q.norm() - 1) > 1e-3) fail("is no unit quaternion");
    return q.normalized();
  }
  bool is_null() const { return value_.is_null(); }
  const nlohmann::ordered_json& keys() const {
    if (!value_.is_object()) fail("is no object");
    return value_;
  }
  [[noreturn]] void fail(const std::string& fault) const {
    throw Error(ErrorKind::input, file_, name_.empty() ? fault : name_ + ": " + fault, remedy_);
  }

 private:
  const nlohmann::ordered_json& value_;
  std::string file_, name_, remedy_;
};

}  // namespace icefield
