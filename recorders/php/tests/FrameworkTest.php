<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

use Illuminate\Contracts\Console\Kernel as ConsoleKernel;
use Illuminate\Contracts\Http\Kernel;
use Illuminate\Foundation\Application;
use Illuminate\Http\Request;
use Illuminate\Queue\WorkerOptions;
use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use PHPUnit\Framework\TestCase;
use Saltmarsh\Office\HarbourClock;
use Saltmarsh\Office\Laravel\Errand;
use Saltmarsh\Office\LogPage;

/** The provider, in the office as an application of the framework. */
final class FrameworkTest extends TestCase
{
    use WithFolder;

    private Application $app;

    protected function setUp(): void
    {
        $this->makeFolder();
        putenv("OFFICE_CACHE=$this->folder");
    }

    protected function tearDown(): void
    {
        $this->app->make(Recorder::class)->end();
        restore_error_handler();
        restore_exception_handler();
        putenv('OFFICE_CACHE');
        $this->dropFolder();
    }

    private function start(bool $resident, string $kernel): void
    {
        $this->app = require __DIR__ . '/../office/laravel/app.php';
        $this->app->instance(Settings::class, new Settings('harbour', $this->folder, $resident));
        $this->app->make($kernel)->bootstrap();
    }

    /** @return list<array<string, mixed>> */
    private function told(string ...$kinds): array
    {
        $this->app->make(Recorder::class)->end();
        $lines = array_map(static fn (string $line): array => json_decode($line, true), file(glob($this->folder . '/*.ndjson')[0]));
        return array_values(array_filter($lines, static fn (array $line): bool => in_array($line['ev'], $kinds, true)));
    }

    private function ask(string $method, string $path): int
    {
        $kernel = $this->app->make(Kernel::class);
        $response = $kernel->handle($request = Request::create($path, $method));
        $kernel->terminate($request, $response);
        return $response->getStatusCode();
    }

    /** Requests are named by their routes: neither a path nor a method that a client invents is ever written. */
    public function testRequests(): void
    {
        $this->start(true, Kernel::class);
        self::assertSame(200, $this->ask('GET', '/tides/outer-bar'));
        self::assertSame(404, $this->ask('GET', '/no-such-page'));
        self::assertSame(405, $this->ask('INVENTED', '/pilots'));
        self::assertSame(
            [['request', 'GET /tides/{gauge}'], ['request', 'GET'], ['request', 'OTHER']],
            array_map(static fn (array $open): array => [$open['kind'], $open['name']], $this->told('open')),
        );
        self::assertCount(3, $this->told('close'));
        self::assertStringNotContainsString('no-such-page', (string) file_get_contents(glob($this->folder . '/*.ndjson')[0]));
    }

    /** A worker's jobs are scopes, also those that fail; what belongs to one of them is rebuilt in the next one. */
    public function testJobs(): void
    {
        $this->start(true, ConsoleKernel::class);
        $queue = $this->app->make('queue')->connection('memory');
        foreach (['arrivals', 'noSuchErrand', 'night'] as $what) {
            $queue->push(new Errand($what));
        }
        $log = ini_set('error_log', '/dev/null');
        $this->app->make('queue.worker')->daemon('memory', 'default', new WorkerOptions(sleep: 0, maxTries: 1, stopWhenEmpty: true));
        ini_set('error_log', (string) $log);
        self::assertSame(['open', 'close', 'open', 'close', 'open', 'close'], array_column($this->told('open', 'close'), 'ev'));
        self::assertSame(['arrivals', 'noSuchErrand', 'night'], array_column($this->told('open'), 'name'));
        $regs = array_column($this->told('register'), 'service', 'reg');
        $scopes = static fn (array $makes, string $of): array => array_column(
            array_filter($makes, static fn (array $make): bool => $regs[$make['reg']] === $of),
            'scope',
        );
        self::assertSame([1, 3], $scopes($this->told('make'), LogPage::class));
        self::assertSame([1], $scopes($this->told('make'), HarbourClock::class));
    }

    /** What the synchronous queue does belongs to its caller's scope, whose instances it shares. */
    public function testSynchronousJobs(): void
    {
        $this->start(true, ConsoleKernel::class);
        $this->app->make('config')->set('queue.connections.sync', ['driver' => 'sync']);
        $scope = $this->app->make(Recorder::class)->open('job', 'outer');
        $this->app->make('queue')->connection('sync')->push(new Errand('night'));
        $this->app->make(Recorder::class)->close($scope);
        self::assertSame(['outer'], array_column($this->told('open'), 'name'));
    }

    /** The framework's own things are registered as such, and not recorded each time that it looks them up. */
    public function testInfrastructure(): void
    {
        $this->start(false, Kernel::class);
        $this->ask('POST', '/arrivals');
        $regs = array_column($this->told('register'), null, 'reg');
        foreach ($regs as $reg) {
            $ours = str_starts_with($reg['service'], 'Saltmarsh') || str_ends_with($reg['service'], 'Kernel');
            self::assertSame(!$ours, $reg['internal'] ?? false, $reg['service']);
        }
        $makes = array_column($this->told('make'), 'reg', 'inst');
        foreach ($this->told('give') as $give) {
            self::assertFalse($regs[$makes[$give['inst']]]['internal'] ?? false);
        }
    }
}
