// Which Icefield this is.
#pragma once

#define ICEFIELD_VERSION_MAJOR 0
#define ICEFIELD_VERSION_MINOR 1
#define ICEFIELD_VERSION_PATCH 0
