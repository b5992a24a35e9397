// The vector kernels of features against their plain twins, and the stream of the scale space against blurring whole
// images.
#include <gtest/gtest.h>

#include <cmath>

#include "icefield/base/instructions.h"
#include "icefield/base/random.h"
#include "icefield/photo/filter.h"
#include "src/feature/describe.h"
#include "src/feature/row_kernels.h"
#include "src/feature/scale_space.h"

namespace icefield {
namespace {

ImageF noisy(int width, int height, float sigma, std::uint64_t seed) {
  CounterRandom random(seed);
  ImageF image(width, height);
  for (float& v : image.data()) v = random.uniformf();
  return sigma > 0 ? gaussian_blur(image, sigma) : image;
}

template <class Check>
void at_each_level(Check check) {
  for (const std::string& level : available_instruction_levels()) {
    pin_instruction_level(level);
    SCOPED_TRACE(level);
    check();
  }
}

TEST(RowKernels, FiltersAgreeWithTheirTwin) {
  const RowKernels plain = plain_row_kernels();
  for (const int width : {16, 33, 61, 250})
    for (const int radius : {1, 2, 5, 11}) {
      const ImageF image = noisy(width + 2 * radius + 4 * kRowSlack, 2 * radius + kFilterRows, 0, 3);
      std::vector<const float*> rows;
      for (int y = 0; y < image.height(); ++y) rows.push_back(image.row(y) + radius + kRowSlack);
      std::vector<float> kernel;
      for (int i = -radius; i <= radius; ++i) kernel.push_back(0.3f / static_cast<float>(std::abs(i) + 1));
      const auto run = [&](const RowKernels& kernels) {
        std::vector<float> down(kFilterRows * 400), across(400), difference(400);
        std::vector<std::uint16_t> sixteen(400);
        float* out[kFilterRows];
        for (int j = 0; j < kFilterRows; ++j) out[j] = &down[static_cast<std::size_t>(400 * j)];
        kernels.filter_down(rows.data(), radius, kernel.data() + radius, width, out);
        kernels.filter_across(rows[0], radius, kernel.data() + radius, width, across.data(), rows[1],
                              difference.data());
        // Values from below 0 to above 1.
        std::vector<float> beyond(rows[0], rows[0] + width + kRowSlack);
        for (float& v : beyond) v = 1.5f * v - 0.25f;
        kernels.quantise(beyond.data(), width, sixteen.data());
        std::vector<float> all;
        for (float* p : out) all.insert(all.end(), p, p + width);
        for (const float* p : {across.data(), difference.data()}) all.insert(all.end(), p, p + width);
        all.insert(all.end(), sixteen.begin(), sixteen.begin() + width);
        return all;
      };
      const auto expected = run(plain);
      at_each_level([&] {
        const auto got = run(best_row_kernels());
        for (std::size_t i = 0; i < got.size(); ++i)
          ASSERT_NEAR(got[i], expected[i], 2e-6) << "width " << width << " radius " << radius << " at " << i;
      });
    }
}

TEST(RowKernels, RowsTwiceAndHalfAsLongAreTheSame) {
  const RowKernels plain = plain_row_kernels();
  for (const int width : {1, 2, 16, 17, 33, 250}) {
    const ImageF image = noisy(2 * width + 2 * kRowSlack, 2, 0, 5);
    const auto run = [&](const RowKernels& kernels) {
      std::vector<float> all(static_cast<std::size_t>(3 * width));
      kernels.twice(image.row(0), image.row(1), 0.25f, width, all.data());
      kernels.halve(image.row(1), width, all.data() + 2 * width);
      return all;
    };
    const auto expected = run(plain);
    at_each_level([&] { EXPECT_EQ(run(best_row_kernels()), expected) << "width " << width; });
  }
}

TEST(RowKernels, ExtremaAreTheSame) {
  // Coarse values give ties, which are no extrema.
  ImageF image = noisy(213, 9, 0, 5);
  for (float& v : image.data()) v = std::round(8 * (v - 0.5f)) / 8;
  for (int x = 0; x < 213; x += 7)
    image.at(x, 4) = x % 2 ? 3.0f + static_cast<float>(x) : -3.0f - static_cast<float>(x);
  const float* rows[9];
  for (int r = 0; r < 9; ++r) rows[r] = image.row(r);
  std::vector<std::int32_t> expected(213), got(213);
  const int count = plain_row_kernels().extrema(rows, 197, 0.2f, expected.data());
  EXPECT_GT(count, 20);
  at_each_level([&] {
    ASSERT_EQ(best_row_kernels().extrema(rows, 197, 0.2f, got.data()), count);
    EXPECT_EQ(expected, got);
    std::fill(got.begin(), got.end(), 0);
  });
}

TEST(DescribeKernels, AgreeWithTheirTwin) {
  const ImageF image = noisy(160, 128, 1.7f, 9);
  Level level(160, 128, 128);
  for (int y = 0; y < 128; ++y) plain_row_kernels().quantise(image.row(y), 160, level.row(y));
  const LayerView& layer = level.view();
  const DescribeKernels plain = plain_describe_kernels();
  CounterRandom random(2);
  int same_angles = 0, total = 0;
  for (int i = 0; i < 200; ++i) {
    // Some of them at the border, where the patch is clamped.
    const float x = random.uniformf() * 159, y = random.uniformf() * 127, sigma = 1.6f + 2 * random.uniformf(),
                angle = 6.28f * random.uniformf();
    float a[kMaxAngles], b[kMaxAngles];
    std::uint8_t first[kDescriptorSize], second[kDescriptorSize];
    const int count = plain.orientations(layer, x, y, sigma, a);
    plain.describe(layer, x, y, sigma, angle, first);
    at_each_level([&] {
      const DescribeKernels kernels = best_describe_kernels();
      ++total;
      bool same = kernels.orientations(layer, x, y, sigma, b) == count;
      for (int k = 0; same && k < count; ++k) same = std::abs(a[k] - b[k]) < 2e-3f;
      same_angles += same;  // a peak just at 80 percent of the highest may fall on either side
      kernels.describe(layer, x, y, sigma, angle, second);
      for (int k = 0; k < kDescriptorSize; ++k) ASSERT_NEAR(first[k], second[k], 1) << i << " bin " << k;
    });
  }
  EXPECT_GE(same_angles, total - total / 50);
}

TEST(ScaleSpace, StreamsWhatBlurringWholeImagesGives) {
  const ImageF image = noisy(90, 301, 0.8f, 4);
  FeatureOptions options;
  for (const bool doubled : {false, true}) {
    ScaleSpaceOptions what;
    what.doubled = doubled;
    what.levels = 4;
    what.reach = 3;
    what.whole_levels = doubled;
    // The first layer's blur on top of what the photo has, then each layer from the one before.
    ImageF big = image;
    if (doubled) {
      big = ImageF(180, 602);
      for (int y = 0; y < 602; ++y)
        for (int x = 0; x < 180; ++x)
          big.at(x, y) =
              sample_bilinear(image, 0.5f * (static_cast<float>(x) + 0.5f), 0.5f * (static_cast<float>(y) + 0.5f));
    }
    const float present = doubled ? 1.0f : 0.5f;
    std::vector<ImageF> expected{gaussian_blur(big, std::sqrt(1.6f * 1.6f - present * present))};
    float sigma = 1.6f;
    const float step = std::exp2(1.0f / 3);
    for (int l = 1; l < 4; ++l, sigma *= step)
      expected.push_back(gaussian_blur(expected.back(), sigma * std::sqrt(step * step - 1)));
    std::vector<int> rows_seen;
    int octaves = 0;
    const std::vector<Octave> kept = stream_scale_space(
        image, options, what, best_row_kernels(), Executor(2), [&](const Octave& o, int begin, int end) {
          octaves = std::max(octaves, o.number + 1);
          rows_seen.resize(static_cast<std::size_t>(octaves), 0);
          EXPECT_EQ(rows_seen[static_cast<std::size_t>(o.number)], begin);
          rows_seen[static_cast<std::size_t>(o.number)] = end;
          if (o.number > 0) return;
          for (int y = std::max(0, begin - 3); y < std::min(end + 3, o.height); ++y)
            for (int l = 0; l < 4; ++l)
              for (int x = 0; x < o.width; ++x) {
                const auto layer = static_cast<std::size_t>(l);
                ASSERT_NEAR(o.levels[layer].row(y)[x] / 65535.0f, expected[layer].at(x, y), 4e-4)
                    << l << " " << x << " " << y;
                if (l < 3) {
                  ASSERT_NEAR(o.difference[layer].row(y)[x], expected[layer + 1].at(x, y) - expected[layer].at(x, y),
                              6e-4)
                      << l << " " << x << " " << y;
                }
              }
        });
    for (int y = 0; doubled && y < 602; ++y)  // still there when all is done
      for (int x = 0; x < 180; ++x) ASSERT_NEAR(kept[0].levels[3].row(y)[x] / 65535.0f, expected[3].at(x, y), 4e-4);
    ASSERT_EQ(octaves, doubled ? 4 : 3);  // 180 or 90 wide, halved until under 16
    int height = doubled ? 602 : 301;
    for (const int seen : rows_seen) {
      EXPECT_EQ(seen, height);
      height = (height + 1) / 2;
    }
  }
}

}  // namespace
}  // namespace icefield
