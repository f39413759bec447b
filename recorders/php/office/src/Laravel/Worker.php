<?php

declare(strict_types=1);

namespace Saltmarsh\Office\Laravel;

use Illuminate\Contracts\Console\Kernel;
use Illuminate\Contracts\Queue\Factory;
use Illuminate\Foundation\Application;
use Illuminate\Queue\WorkerOptions;
use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use Saltmarsh\Office\Works;

/** The office's work done by the framework's queue worker. */
final class Worker implements Works
{
    private const ERRANDS = [
        'POST /arrivals' => 'arrivals', 'GET /pilots' => 'pilots', 'POST /tugs' => 'tugs', 'GET /weather' => 'weather', 'night job' => 'night',
        'GET /tides/{gauge}' => 'tides',
    ];

    private readonly Application $app;

    public function __construct(Settings $settings)
    {
        $this->app = require __DIR__ . '/../../laravel/app.php';
        $this->app->instance(Settings::class, $settings);
        $this->app->make(Kernel::class)->bootstrap();
    }

    /** What records it. */
    public function recorder(): Recorder
    {
        return $this->app->make(Recorder::class);
    }

    public function work(string $kind, string $name): void
    {
        $this->app->make(Factory::class)->connection('memory')->push(new Errand(self::ERRANDS[$name]));
    }

    /** Does what has been asked for. */
    public function finish(): void
    {
        $this->app->make('queue.worker')->daemon('memory', 'default', new WorkerOptions(sleep: 0, stopWhenEmpty: true));
    }
}
