<?php

declare(strict_types=1);

namespace Gallery;

use Illuminate\Foundation\Http\Kernel as HttpKernel;

final class Kernel extends HttpKernel
{
    protected $middleware = [\Illuminate\Foundation\Http\Middleware\ConvertEmptyStringsToNull::class];
}
