// Words of descriptors, and one vector for a whole photo.
#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>

#include "icefield/base/random.h"
#include "icefield/match/choose_pairs.h"

namespace icefield {
namespace {

// Centres as columns of 16-bit numbers in turn, so that a loop over words runs in vector registers.
class WordFinder {
 public:
  explicit WordFinder(const Vocabulary& vocabulary)
      : words_(vocabulary.size()), columns_(words_ * kDescriptorSize), norms_(words_) {
    for (std::size_t w = 0; w < words_; ++w)
      for (std::size_t k = 0; k < kDescriptorSize; ++k) {
        const std::int32_t c = vocabulary.centres[w * kDescriptorSize + k];
        columns_[k * words_ + w] = c;
        norms_[w] += c * c;
      }
  }
  // Of equals the first.
  std::size_t nearest(const std::uint8_t* descriptor, std::vector<std::int32_t>& scores) const {
    scores.assign(norms_.begin(), norms_.end());
    for (std::size_t k = 0; k < kDescriptorSize; ++k) {
      const std::int32_t d = 2 * descriptor[k];
      if (d == 0) continue;
      const std::int32_t* column = columns_.data() + k * words_;
      for (std::size_t w = 0; w < words_; ++w) scores[w] -= d * column[w];
    }
    return static_cast<std::size_t>(std::min_element(scores.begin(), scores.end()) - scores.begin());
  }

 private:
  std::size_t words_;
  std::vector<std::int32_t> columns_, norms_;
};

}  // namespace

Vocabulary train_vocabulary(std::span<const std::uint8_t> descriptors, int words, const Executor& executor) {
  const std::size_t count = descriptors.size() / kDescriptorSize;
  const auto size = std::min(static_cast<std::size_t>(std::max(words, 1)), count);
  Vocabulary vocabulary;
  if (size == 0) return vocabulary;
  // Starts from descriptors drawn evenly over the sample.
  CounterRandom random(0x70c4b);
  for (std::size_t w = 0; w < size; ++w) {
    const std::size_t low = w * count / size, high = (w + 1) * count / size;
    const std::size_t i = low + random.below(static_cast<std::uint32_t>(high - low));
    vocabulary.centres.insert(vocabulary.centres.end(),
                              descriptors.begin() + static_cast<std::ptrdiff_t>(i * kDescriptorSize),
                              descriptors.begin() + static_cast<std::ptrdiff_t>((i + 1) * kDescriptorSize));
  }
  constexpr std::size_t kGrain = 1024;
  constexpr int kPasses = 12;
  std::vector<std::uint32_t> word(count);
  for (int pass = 0; pass < kPasses; ++pass) {
    const WordFinder finder(vocabulary);
    executor.blocks(count, kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      std::vector<std::int32_t> scores;
      for (std::size_t i = begin; i < end; ++i)
        word[i] = static_cast<std::uint32_t>(finder.nearest(descriptors.data() + i * kDescriptorSize, scores));
    });
    std::vector<std::uint64_t> sums(size * kDescriptorSize, 0), members(size, 0);
    for (std::size_t i = 0; i < count; ++i) {
      ++members[word[i]];
      for (std::size_t k = 0; k < kDescriptorSize; ++k)
        sums[word[i] * kDescriptorSize + k] += descriptors[i * kDescriptorSize + k];
    }
    for (std::size_t w = 0; w < size; ++w)
      for (std::size_t k = 0; k < kDescriptorSize && members[w] > 0; ++k)
        vocabulary.centres[w * kDescriptorSize + k] =
            static_cast<std::uint8_t>((sums[w * kDescriptorSize + k] + members[w] / 2) / members[w]);
  }
  return vocabulary;
}

std::vector<std::uint8_t> word_descriptors(const Features& features) {
  if (features.gradient_size() > 0 || features.binary_size() == 0) return features.descriptors;
  std::vector<std::uint8_t> bytes(features.binary_size() * kDescriptorSize, 0);
  for (std::size_t i = 0; i < features.binary_size(); ++i)
    for (std::size_t k = 0; k < kDescriptorSize; ++k)
      bytes[i * kDescriptorSize + k] =
          static_cast<std::uint8_t>(31 * std::popcount(features.bits[i * kBitWords + k / 16] >> (4 * (k % 16)) & 15));
  return bytes;
}

PhotoVector describe_photo(const Features& features, const Vocabulary& vocabulary) {
  PhotoVector vector;
  const std::vector<std::uint8_t> descriptors = word_descriptors(features);
  const std::size_t words = vocabulary.size();
  std::vector<std::int32_t> sums(words * kDescriptorSize, 0), scores;
  const WordFinder finder(vocabulary);
  for (std::size_t i = 0; i < descriptors.size() / kDescriptorSize; ++i) {
    const std::uint8_t* d = descriptors.data() + i * kDescriptorSize;
    const std::size_t w = finder.nearest(d, scores);
    for (std::size_t k = 0; k < kDescriptorSize; ++k)
      sums[w * kDescriptorSize + k] += static_cast<std::int32_t>(d[k]) - vocabulary.centres[w * kDescriptorSize + k];
  }
  // The root tames words that burst; then each word counts alike.
  std::vector<double> values(sums.size(), 0);
  double largest = 0;
  for (std::size_t w = 0; w < words; ++w) {
    double length2 = 0;
    for (std::size_t k = 0; k < kDescriptorSize; ++k) {
      const double s = sums[w * kDescriptorSize + k];
      values[w * kDescriptorSize + k] = std::copysign(std::sqrt(std::abs(s)), s);
      length2 += std::abs(s);
    }
    for (std::size_t k = 0; k < kDescriptorSize && length2 > 0; ++k) {
      double& v = values[w * kDescriptorSize + k];
      v /= std::sqrt(length2);
      largest = std::max(largest, std::abs(v));
    }
  }
  vector.values.resize(values.size(), 0);
  if (!(largest > 0)) return vector;
  double length2 = 0;
  for (std::size_t k = 0; k < values.size(); ++k) {
    vector.values[k] = static_cast<std::int8_t>(std::lround(127 * values[k] / largest));
    length2 += vector.values[k] * vector.values[k];
  }
  vector.scale = static_cast<float>(1 / std::sqrt(length2));
  return vector;
}

float likeness(const PhotoVector& a, const PhotoVector& b) {
  const std::int8_t *pa = a.values.data(), *pb = b.values.data();
  std::int32_t sum = 0;
  for (std::size_t k = 0; k < a.values.size(); ++k)
    sum += static_cast<std::int16_t>(pa[k]) * static_cast<std::int16_t>(pb[k]);
  return static_cast<float>(sum) * a.scale * b.scale;
}

}  // namespace icefield
