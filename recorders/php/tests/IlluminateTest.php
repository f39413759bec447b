<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

use Illuminate\Contracts\Container\BindingResolutionException;
use KeenLantern\Record\Illuminate\RecordedContainer;
use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use Saltmarsh\Harbour\{Clock, Crew, Desk, GaugeTides, Page, Planner, RoundedTides, Tides, Weather};
use PHPUnit\Framework\TestCase;
use Symfony\Component\HttpFoundation\Request;

final class IlluminateTest extends TestCase
{
    use WithFolder;

    private Recorder $recorder;
    private RecordedContainer $app;

    protected function setUp(): void
    {
        $this->makeFolder();
        $this->recorder = new Recorder(new Settings('harbour', $this->folder));
        $this->app = (new RecordedContainer())->recordWith($this->recorder);
    }

    protected function tearDown(): void
    {
        $this->dropFolder();
    }

    /** @return list<array<string, mixed>> */
    private function told(string $kind): array
    {
        $this->recorder->end();
        $lines = array_map(static fn (string $line): array => json_decode($line, true), file(glob($this->folder . '/*')[0]));
        return array_values(array_filter($lines, static fn (array $line): bool => $line['ev'] === $kind));
    }

    /** @return list<array{string, string, list<string>}> of each make: its service and key, its class, what it was given by service */
    private function built(): array
    {
        $regs = array_column($this->told('register'), null, 'reg');
        $makes = array_column($this->told('make'), null, 'inst');
        $name = static fn (array $reg): string => basename(str_replace('\\', '/', $reg['service']))
            . (isset($reg['key']) ? " [{$reg['key']}]" : '') . (isset($reg['wraps']) ? ' around' : '');
        return array_map(static fn (array $make): array => [
            $name($regs[$make['reg']]),
            basename(str_replace('\\', '/', $make['impl'])),
            array_map(static function (mixed $given) use ($makes): string {
                $inst = is_array($given) ? $given['inst'] : $given;
                return basename(str_replace('\\', '/', $makes[$inst]['impl']));
            }, $make['with'] ?? []),
        ], array_values($makes));
    }

    /** @return array<string, string> */
    private function lifetimes(): array
    {
        return array_column($this->told('register'), 'lifetime', 'service');
    }

    public function testWhatIsBuiltForWhom(): void
    {
        $this->app->singleton(Clock::class);
        $this->app->scoped(Tides::class, GaugeTides::class);
        $this->app->bind(Page::class);
        $desk = $this->app->make(Desk::class);
        self::assertSame($desk->planner->clock, $this->app->make(Clock::class));
        self::assertSame([
            ['Clock', 'Clock', []],
            ['Tides', 'GaugeTides', ['Clock']],
            ['Planner', 'Planner', ['GaugeTides', 'Clock']],
            ['Page', 'Page', []],
            ['Desk', 'Desk', ['Planner', 'Page']],
        ], $this->built());
        self::assertSame([
            Clock::class => 'singleton', Tides::class => 'scoped', Planner::class => 'transient', Page::class => 'transient',
            Desk::class => 'transient',
        ], $this->lifetimes());
        self::assertSame([5, 1], array_column($this->told('give'), 'inst'));
    }

    public function testLayers(): void
    {
        $this->app->singleton(Tides::class, GaugeTides::class);
        $this->app->extend(Tides::class, fn (Tides $inner) => new RoundedTides($inner));
        $this->app->extend(Tides::class, fn (Tides $inner) => $inner); // configures only
        $this->app->extend(Tides::class, fn (Tides $inner, $app) => new RoundedTides($app->make(Page::class) ? $inner : $inner));
        self::assertInstanceOf(RoundedTides::class, $this->app->make(Tides::class)->inner);
        self::assertSame([
            ['Clock', 'Clock', []],
            ['Tides', 'GaugeTides', ['Clock']],
            ['Tides around', 'RoundedTides', ['GaugeTides']],
            ['Page', 'Page', []],
            ['Tides around', 'RoundedTides', ['RoundedTides', 'Page']],
        ], $this->built());
    }

    public function testNamesOfTheirOwn(): void
    {
        $this->app->instance(Clock::class, $clock = new Clock());
        $this->app->bind(Tides::class, GaugeTides::class);
        $this->app->when(Planner::class)->needs(Tides::class)->give(fn ($app) => new RoundedTides($app->make(GaugeTides::class)));
        $this->app->alias(Planner::class, 'planner');
        self::assertInstanceOf(RoundedTides::class, $this->app->make('planner')->tides);
        self::assertNotSame($this->app->make(Page::class, ['n' => 1]), $this->app->make(Page::class));
        self::assertSame($clock, $this->app->make(Clock::class));
        self::assertSame([
            ['Clock', 'Clock', []],
            ['GaugeTides', 'GaugeTides', ['Clock']],
            ['Tides [for ' . Planner::class . ']', 'RoundedTides', ['GaugeTides']],
            ['Planner', 'Planner', ['RoundedTides', 'Clock']],
            ['Page [with parameters]', 'Page', []],
            ['Page', 'Page', []],
        ], $this->built());
        self::assertSame('external', $this->told('make')[0]['by']);
        self::assertSame('external', $this->lifetimes()[Clock::class]);
    }

    public function testFailures(): void
    {
        try {
            $this->app->make(Crew::class);
            self::fail('nothing answers for the weather');
        } catch (BindingResolutionException) {
        }
        self::assertSame([[Weather::class, 'missing']], array_map(static fn (array $f): array => [$f['service'], $f['why']], $this->told('fail')));
    }

    /** In a worker, scopes are jobs, and what is scoped is rebuilt in each. */
    public function testJobs(): void
    {
        $this->app->scoped(Page::class);
        $pages = [];
        foreach ([1, 2] as $job) {
            $scope = $this->recorder->open('job', 'night job');
            $pages[] = $this->app->make(Page::class);
            self::assertSame($pages[$job - 1], $this->app->make(Page::class));
            $this->app->forgetScopedInstances();
            $this->recorder->close($scope);
        }
        self::assertNotSame($pages[0], $pages[1]);
        self::assertSame([1, 2], array_column($this->told('make'), 'scope'));
        self::assertCount(1, $this->told('register'));
    }

    /** What is rebound is another registration: two singletons of one name are no mistake. */
    public function testBoundAnew(): void
    {
        $this->app->singleton(Clock::class);
        $first = $this->app->make(Clock::class);
        $this->app->singleton(Clock::class);
        $second = $this->app->make(Clock::class);
        $this->app->instance(Clock::class, $third = new Clock());
        self::assertSame($third, $this->app->make(Clock::class));
        self::assertNotSame($first, $second);
        self::assertSame([1, 2, 3], array_column($this->told('make'), 'reg'));
        self::assertSame(['singleton', 'singleton', 'external'], array_column($this->told('register'), 'lifetime'));
    }

    /** A layer that is put around what is there already is one as well. */
    public function testALateLayer(): void
    {
        $this->app->singleton(Tides::class, GaugeTides::class);
        $inner = $this->app->make(Tides::class);
        $this->app->extend(Tides::class, fn (Tides $tides) => new RoundedTides($tides));
        $outer = $this->app->make(Tides::class);
        self::assertNotSame($inner, $outer);
        self::assertSame([
            ['Clock', 'Clock', []],
            ['Tides', 'GaugeTides', ['Clock']],
            ['Tides around', 'RoundedTides', ['GaugeTides']],
        ], $this->built());
        self::assertSame(2, $this->told('register')[2]['wraps']);
    }

    public function testAllThatHaveATag(): void
    {
        $this->app->tag([Clock::class, Page::class], 'parts');
        $this->app->bind('noticeBoard', fn ($app) => new \ArrayObject([...$app->tagged('parts'), $app->make(Clock::class)]));
        $this->app->make('noticeBoard');
        foreach ($this->app->tagged('parts') as $part) {
            self::assertIsObject($part);
        }
        $board = $this->told('make')[3];
        self::assertSame([[1, 2], 3], $board['with']);
        self::assertSame([null, true, true], array_map(static fn (array $give): mixed => $give['all'] ?? null, $this->told('give')));
    }

    /** What is set again on an instance when a name is rebound. */
    public function testRebinding(): void
    {
        $this->app->singleton(Clock::class);
        $this->app->singleton('noticeBoard', fn () => new class () {
            public ?Clock $clock = null;

            public function setClock(Clock $clock): void
            {
                $this->clock = $clock;
            }
        });
        $board = $this->app->make('noticeBoard');
        $board->setClock($this->app->refresh(Clock::class, $board, 'setClock'));
        $this->app->singleton(Clock::class);
        self::assertSame($this->app->make(Clock::class), $board->clock);
        $set = array_values(array_filter($this->told('give'), static fn (array $give): bool => $give['how'] === 'property'));
        self::assertCount(1, $set);
        self::assertSame([$this->recorder->idOf($board->clock), $this->recorder->idOf($board)], [$set[0]['inst'], $set[0]['to']]);
    }

    /** A server may clone the container for each request: what a clone builds ends with it. */
    public function testClones(): void
    {
        $this->app->singleton(Clock::class);
        $this->app->make(Clock::class);
        $this->app->singleton(Page::class);
        for ($n = 0; $n < 2; $n++) {
            $scope = $this->recorder->open('request', 'GET /page');
            $clone = clone $this->app;
            $clone->make(Page::class);
            $clone->flush();
            $this->recorder->close($scope);
        }
        self::assertSame([Clock::class => 'singleton', Page::class => 'scoped'], $this->lifetimes());
        self::assertSame([1, 2, 2], array_column($this->told('make'), 'reg'));
        self::assertSame([], $this->told('forget'));
    }

    /** A process that stays has one registration for all its requests, and an instance for each. */
    public function testRequests(): void
    {
        require_once '/usr/share/php/Symfony/Component/HttpFoundation/autoload.php';
        $this->app->bind('reader', fn ($app) => new \ArrayObject([$app->make('request')]));
        for ($n = 0; $n < 3; $n++) {
            $scope = $this->recorder->open('request', 'GET /page');
            $this->app->instance('request', new Request());
            $this->app->make('reader');
            $this->recorder->close($scope);
        }
        self::assertSame(['request' => 'scoped', 'reader' => 'transient'], $this->lifetimes());
        self::assertCount(2, $this->told('register'));
        self::assertCount(6, $this->told('make'));
    }

    /** Who asked is the handler of the work, or what was being built. */
    public function testWhoAsks(): void
    {
        $scope = $this->recorder->open('request', 'GET /page');
        $this->recorder->handledBy('PageController@show');
        $this->app->call(static fn (Page $page): Page => $page);
        $this->app->make(Page::class);
        try {
            $this->app->call(static fn (Weather $weather): Weather => $weather);
            self::fail('nothing answers for the weather');
        } catch (BindingResolutionException) {
        }
        $this->recorder->close($scope);
        self::assertSame([['PageController@show', 'method'], ['PageController@show', 'locator']], array_map(
            static fn (array $give): array => [$give['entry'], $give['how']],
            $this->told('give'),
        ));
        self::assertSame('PageController@show', $this->told('fail')[0]['entry']);
    }

    public function testTheContainerIsReset(): void
    {
        $this->app->singleton(Clock::class);
        $this->app->make(Clock::class);
        $this->app->flush();
        self::assertSame([['container' => 1, 'by' => 'container']], array_map(
            static fn (array $forget): array => array_diff_key($forget, ['ev' => 0, 't' => 0]),
            $this->told('forget'),
        ));
    }
}
