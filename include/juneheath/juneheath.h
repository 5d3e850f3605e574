// Grows and shrinks a guest's virtual disks and everything inside them, in one step.
//
// These headers are all that other programs build on: they need the C++17 standard library only,
// and stay compatible within one minor version. Look (guest.h), plan (plan.h), carry out, take
// back, put right (change.h), show (report.h).
#pragma once

#include "juneheath/change.h"
#include "juneheath/error.h"
#include "juneheath/guest.h"
#include "juneheath/plan.h"
#include "juneheath/report.h"
