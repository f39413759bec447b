<?php

declare(strict_types=1);

namespace Saltmarsh\Office\Laravel;

use Illuminate\Contracts\Container\Container;
use Illuminate\Contracts\Queue\ShouldQueue;

/** A piece of the office's work that a worker does. */
final class Errand implements ShouldQueue
{
    public function __construct(private readonly string $what)
    {
    }

    /** What the worker calls it by. */
    public function displayName(): string
    {
        return $this->what;
    }

    public function handle(Container $app, OfficeController $office): void
    {
        $app->call([$office, $this->what], ['gauge' => 'outer-bar']);
    }
}
