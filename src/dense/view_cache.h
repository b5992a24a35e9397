// A few views and maps at a time.
#pragma once
#include <list>
#include <map>
#include <memory>

#include "icefield/dense/dense.h"

namespace icefield {

// Keeps the values used last; makes the others again. For one thread.
template <class Value>
class RecentlyUsed {
 public:
  RecentlyUsed(std::size_t capacity, std::function<std::shared_ptr<const Value>(std::uint32_t)> make)
      : capacity_(capacity), make_(std::move(make)) {}

  std::shared_ptr<const Value> get(std::uint32_t key) {
    if (const auto found = entries_.find(key); found != entries_.end()) {
      order_.splice(order_.begin(), order_, found->second.second);
      return found->second.first;
    }
    auto value = make_(key);
    order_.push_front(key);
    entries_[key] = {value, order_.begin()};
    if (entries_.size() > capacity_) {
      entries_.erase(order_.back());
      order_.pop_back();
    }
    return value;
  }

 private:
  std::size_t capacity_;
  std::function<std::shared_ptr<const Value>(std::uint32_t)> make_;
  std::list<std::uint32_t> order_;
  std::map<std::uint32_t, std::pair<std::shared_ptr<const Value>, std::list<std::uint32_t>::iterator>> entries_;
};

}  // namespace icefield
