// The product that a dense factorisation spends its time in, in vector registers. It has a plain twin that tests hold
// it to.
#pragma once
#include <cstddef>

namespace icefield {

// A matrix of `rows` x `depth` is packed in strips of a few rows: of each strip for each column in turn its rows, with
// zeros below the last. How many rows depends on the registers.
struct DenseKernels {
  int row_strip, column_strip;  // rows of the left and of the right factor in a strip

  // c (column-major, `stride` apart) -= a b^T for `rows` x `columns` of it; a and b are packed. Where `lower`, only
  // what is on or below the diagonal of c is needed, and what is above may be left as it is.
  void (*subtract_product)(const double* a, const double* b, int depth, int rows, int columns, bool lower, double* c,
                           std::ptrdiff_t stride);
};

DenseKernels best_dense_kernels();  // by CPUID and the pinned instruction level
DenseKernels plain_dense_kernels();

// Doubles that the packed form of `rows` x `depth` takes.
inline std::size_t packed_size(int rows, int depth, int strip) {
  return static_cast<std::size_t>((rows + strip - 1) / strip * strip) * static_cast<std::size_t>(depth);
}
void pack_strips(const double* from, std::ptrdiff_t stride, int rows, int depth, int strip, double* to);

}  // namespace icefield
