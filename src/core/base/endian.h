// On-disk integers: unaligned, with a byte order of their own. Read with value(), written with =.
#pragma once

#include <boost/endian/buffers.hpp>

namespace jh {

using Le16 = boost::endian::little_uint16_buf_t;
using Le32 = boost::endian::little_uint32_buf_t;
using Le64 = boost::endian::little_uint64_buf_t;
using Be16 = boost::endian::big_uint16_buf_t;
using Be32 = boost::endian::big_uint32_buf_t;
using Be64 = boost::endian::big_uint64_buf_t;

}  // namespace jh
