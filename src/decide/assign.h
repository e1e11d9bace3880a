#pragma once
#include "dictionary/encode.h"
#include "plan/model.h"

namespace jembatan::decide {

/// The whole attributes that an assignment makes, its places filled in.
///   hide    for hidden attributes
///   errors  Errc::not_found: a place has no value; Errc::malformed: the value would be empty; those of
///   dictionary::encode
Result<Octets> made_of(const plan::Assignment& assignment, const condition::Facts& facts,
                       const condition::Captures& captures, const dictionary::Hide& hide = {});

}  // namespace jembatan::decide
