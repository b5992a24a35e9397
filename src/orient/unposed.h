// Why photos were left out of every block.
#pragma once
#include <string>
#include <vector>

#include "src/orient/orient_input.h"

namespace icefield {

// Of a photo that no verified pair has; empty where it has one.
std::string reason_without_pairs(const OrientInput& input, PhotoIndex photo);
// Which photos a photo has verified pairs with, as far as it helps, to be added to a reason.
std::string partners(const OrientInput& input, PhotoIndex photo, const std::vector<bool>& posed);

}  // namespace icefield
