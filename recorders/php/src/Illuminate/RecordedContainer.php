<?php

declare(strict_types=1);

namespace KeenLantern\Record\Illuminate;

use Illuminate\Container\Container;

/** An Illuminate container that is recorded. */
class RecordedContainer extends Container
{
    use RecordsContainer;
}
