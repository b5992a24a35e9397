// Smooth surfaces over rasters.
#pragma once
#include <vector>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/photo/image.h"

namespace icefield {

// Moves `heights` to where a thin plate lies that is drawn to `wanted` by `weights` (0: not at all): the least of
// bending (squares of second differences) plus weights times squared distances. By conjugate gradients (Hestenes and
// Stiefel 1952) from where `heights` are, at most `steps` of them: what reaches far is to come from a coarser raster.
// The same for any number of threads. Throws Error(interrupted).
void bend_plate(ImageF& heights, const ImageF& wanted, const ImageF& weights, int steps, const Executor& executor,
                Monitor& monitor);

// Values where `known` is not 0 go on into the others as a plate does; coarse to fine. Nothing known: all 0.
void fill_by_plate(ImageF& heights, const ImageU8& known, const Executor& executor, Monitor& monitor);

// In cells, from each cell's middle to that of the nearest one that is not 0 (Felzenszwalb and Huttenlocher, "Distance
// transforms of sampled functions", 2012); 1e9 everywhere where there is none.
ImageF distances_to(const ImageU8& cells, const Executor& executor);

// From a raster of half the cells each way, odd ones rounded up: bilinear between middles.
ImageF twice_as_fine(const ImageF& coarse, int width, int height, const Executor& executor);

}  // namespace icefield
