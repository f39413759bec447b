<?php

declare(strict_types=1);

namespace Saltmarsh\Office\Laravel;

use Illuminate\Foundation\Http\Kernel as HttpKernel;

final class Kernel extends HttpKernel
{
    protected $middleware = [\Illuminate\Foundation\Http\Middleware\ConvertEmptyStringsToNull::class];
}
