#include "icefield/base/fingerprint.h"

#include <gtest/gtest.h>

#include "icefield/base/bytes.h"
#include "icefield/base/nearest.h"
#include "icefield/base/random.h"

namespace icefield {
namespace {

TEST(Fingerprint, TellsBordersApart) {
  const auto of = [](std::string_view a, std::string_view b) { return Fingerprinter().add(a).add(b).result(); };
  EXPECT_EQ(of("ab", "c"), of("ab", "c"));
  EXPECT_NE(of("ab", "c"), of("a", "bc"));
  EXPECT_EQ(of("ab", "c").hex().size(), 32u);
}

TEST(Bytes, RoundTripAndTruncation) {
  ByteWriter out;
  out.put(7).put(std::string("moraine")).put(std::vector<double>{1, 2, 3});
  const Bytes bytes = out.take();
  ByteReader in(bytes);
  EXPECT_EQ(in.get<int>(), 7);
  EXPECT_EQ(in.get_string(), "moraine");
  EXPECT_EQ(in.get_array<double>(), (std::vector<double>{1, 2, 3}));
  EXPECT_TRUE(in.at_end());
  // Every shorter form is refused, none is read past its end.
  for (std::size_t n = 0; n < bytes.size(); ++n) {
    ByteReader cut(std::span<const std::byte>(bytes).first(n));
    EXPECT_THROW((cut.get<int>(), cut.get_string(), cut.get_array<double>()), Error) << n;
  }
}

TEST(Bytes, HostileCountsAreRefused) {
  ByteWriter out;
  out.put(~std::uint64_t{0} / 2);
  const Bytes bytes = out.take();
  EXPECT_THROW(ByteReader(bytes).get_array<double>(), Error);
  EXPECT_THROW(ByteReader(bytes).get_string(), Error);
}

TEST(NearestPoints, AgreesWithSearchingAll) {
  CounterRandom random(4);
  std::vector<Eigen::Vector3f> points(500);
  for (auto& p : points) p = Eigen::Vector3f(random.uniformf(), random.uniformf(), random.uniformf());
  const NearestPoints tree(points);
  for (int k = 0; k < 100; ++k) {
    const Eigen::Vector3f q(random.uniformf(), random.uniformf(), random.uniformf());
    float best = 1e9f;
    for (const auto& p : points) best = std::min(best, (p - q).squaredNorm());
    EXPECT_FLOAT_EQ(tree.nearest(q).distance2, best);
    const auto five = tree.nearest(q, 5);
    ASSERT_EQ(five.size(), 5u);
    EXPECT_FLOAT_EQ(five[0].distance2, best);
    for (int i = 1; i < 5; ++i) EXPECT_GE(five[i].distance2, five[i - 1].distance2);
  }
}

}  // namespace
}  // namespace icefield
