// A few values at a time of many that take long to make.
#pragma once
#include <functional>
#include <list>
#include <map>
#include <memory>
#include <mutex>
#include <utility>

namespace icefield {

// Keeps the values used last; makes the others again. From several threads: one makes a value, those that ask for the
// same wait for it. Who holds a value keeps it alive.
template <class Key, class Value>
class RecentlyUsed {
 public:
  using Shared = std::shared_ptr<const Value>;
  RecentlyUsed(std::size_t capacity, std::function<Shared(Key)> make) : capacity_(capacity), make_(std::move(make)) {}

  Shared get(Key key) {
    const std::shared_ptr<Entry> entry = entry_of(key);
    const std::lock_guard making(entry->mutex);
    if (!entry->value) entry->value = make_(key);
    return entry->value;
  }

  void clear() {
    const std::lock_guard lock(mutex_);
    entries_.clear();
    order_.clear();
  }

 private:
  struct Entry {
    std::mutex mutex;
    Shared value;
  };
  std::shared_ptr<Entry> entry_of(Key key) {
    const std::lock_guard lock(mutex_);
    if (const auto found = entries_.find(key); found != entries_.end()) {
      order_.splice(order_.begin(), order_, found->second.second);
      return found->second.first;
    }
    order_.push_front(key);
    const auto entry = std::make_shared<Entry>();
    entries_[key] = {entry, order_.begin()};
    if (entries_.size() > capacity_) {
      entries_.erase(order_.back());
      order_.pop_back();
    }
    return entry;
  }

  std::size_t capacity_;
  std::function<Shared(Key)> make_;
  std::mutex mutex_;
  std::list<Key> order_;
  std::map<Key, std::pair<std::shared_ptr<Entry>, typename std::list<Key>::iterator>> entries_;
};

}  // namespace icefield
