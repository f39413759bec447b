<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

use KeenLantern\Record\FolderSink;
use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use PHPUnit\Framework\TestCase;

final class RecorderTest extends TestCase
{
    use WithFolder;

    protected function setUp(): void
    {
        $this->makeFolder();
    }

    protected function tearDown(): void
    {
        $this->dropFolder();
    }

    /** @return list<array<string, mixed>> */
    private function lines(): array
    {
        $lines = [];
        foreach (glob($this->folder . '/*.ndjson') ?: [] as $path) {
            foreach (file($path, FILE_IGNORE_NEW_LINES) as $line) {
                $lines[] = json_decode($line, true, 64, JSON_THROW_ON_ERROR);
            }
        }
        return $lines;
    }

    public function testARequestIsAStream(): void
    {
        $recorder = new Recorder(new Settings('harbour office', $this->folder, environment: 'test'));
        $scope = $recorder->open('request', 'GET /tides', '00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01');
        $reg = $recorder->register(['service' => 'Clock', 'lifetime' => 'singleton']);
        $clock = new \ArrayObject();
        self::assertSame(1, $recorder->make($clock, ['reg' => $reg, 'ns' => 5]));
        self::assertSame(1, $recorder->idOf($clock));
        self::assertSame(0, $recorder->idOf(new \ArrayObject()));
        $recorder->close($scope);
        self::assertSame([], $this->lines(), 'nothing is written while the request runs');
        $recorder->end();
        $recorder->end();
        $kinds = array_column($this->lines(), 'ev');
        self::assertSame(['hello', 'open', 'register', 'make', 'close', 'bye'], $kinds);
        [$hello, $open, , $make] = $this->lines();
        self::assertSame('test', $hello['environment']);
        self::assertMatchesRegularExpression('/^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{9}Z$/', $hello['start']);
        self::assertSame('4bf92f3577b34da6a3ce929d0e0e4736', $open['trace']);
        self::assertSame(1, $make['scope']);
        self::assertStringContainsString('/harbour-office-', glob($this->folder . '/*')[0]);
        self::assertStringEndsWith('.requests.ndjson', glob($this->folder . '/*')[0]);
    }

    /** A request's route is known only when it has been found; a scope whose line is away has the name that it was opened with. */
    public function testAScopeIsNamedLater(): void
    {
        $recorder = new Recorder(new Settings('harbour', $this->folder, resident: true));
        $scope = $recorder->open('request', 'GET');
        $recorder->name($scope, 'GET /tides/{gauge}');
        $recorder->flush();
        $recorder->name($scope, 'too late');
        $recorder->close($scope);
        $recorder->end();
        self::assertSame('GET /tides/{gauge}', $this->lines()[1]['name']);
    }

    /** However much is recorded before its route is known. */
    public function testAScopeIsNamedMuchLater(): void
    {
        $recorder = new Recorder(new Settings('harbour', $this->folder));
        $recorder->register(['service' => 'before']);
        $scope = $recorder->open('request', 'GET');
        for ($n = 0; $n < 250; $n++) {
            $recorder->register(['service' => "Service$n"]);
        }
        $recorder->name($scope, 'GET /tides');
        $step = $recorder->open('step');
        $recorder->name($scope, 'only the last one can be named');
        $recorder->name($step, 'the step');
        $recorder->close($scope);
        $recorder->end();
        $lines = $this->lines();
        $opens = array_filter($lines, static fn (array $line): bool => $line['ev'] === 'open');
        self::assertSame(['GET /tides', 'the step'], array_column($opens, 'name'));
        $services = ['before', ...array_map(static fn (int $n): string => "Service$n", range(0, 249))];
        self::assertSame($services, array_column($lines, 'service'));
        self::assertSame(['hello', 'register', 'open'], array_column(array_slice($lines, 0, 3), 'ev'));
        self::assertSame(['open', 'close', 'close', 'bye'], array_column(array_slice($lines, -4), 'ev'));
        self::assertSame(count($lines), $recorder->totals()['events']);
    }

    /** What cannot be written takes nothing else with it, and many ids wait in no memory of their own. */
    public function testOneAmongMany(): void
    {
        $log = ini_set('error_log', $this->folder . '/error-log');
        $recorder = new Recorder(new Settings('harbour', $this->folder));
        $recorder->register(['service' => 'first']);
        $recorder->say('register', ['reg' => 2, 'service' => 'bad', 'needs' => [17]]); // no need is a number
        $recorder->register(['service' => 'last']);
        $with = range(1, 20_000);
        $recorder->say('make', ['inst' => 1, 'scope' => 0, 'with' => $with]); // which is written at once
        $before = memory_get_usage();
        for ($n = 2; $n < 12; $n++) {
            $recorder->say('make', ['inst' => $n, 'scope' => 0, 'with' => range(1, 20_000)]);
        }
        self::assertLessThan(10 * 150_000, memory_get_usage() - $before);
        $before = memory_get_usage();
        for ($n = 0; $n < 20; $n++) {
            $recorder->say('fail', ['service' => str_repeat((string) $n, 1 << 19), 'why' => 'missing']);
            $recorder->say('give', ['inst' => 1, 'scope' => 0, 'service' => str_repeat((string) $n, 1 << 19)]);
        }
        self::assertLessThan(1_000_000, memory_get_usage() - $before, 'of a long text only its beginning is kept');
        $recorder->say('register', ['reg' => 3, 'service' => 'bad', 'needs' => [17]]); // among the last ones
        $recorder->end();
        ini_set('error_log', (string) $log);
        $lines = $this->lines();
        $registered = array_filter($lines, static fn (array $line): bool => $line['ev'] === 'register');
        self::assertSame(['first', 'last'], array_column($registered, 'service'));
        self::assertSame(2, $lines[count($lines) - 2]['lost']);
        self::assertSame([$with], array_values(array_unique(array_column($lines, 'with'), SORT_REGULAR)));
    }

    public function testAResidentWritesWhenAJobEnds(): void
    {
        $recorder = new Recorder(new Settings('harbour', $this->folder, resident: true));
        foreach (['first', 'second'] as $n => $name) {
            $outer = $recorder->open('job', $name);
            $recorder->open('step', 'left open');
            $recorder->close($outer);
            self::assertCount(1 + 4 * ($n + 1), $this->lines());
        }
        $recorder->end();
        self::assertSame(1, count(array_keys(array_column($this->lines(), 'ev'), 'hello')));
        self::assertSame('bye', $this->lines()[9]['ev']);
        self::assertSame(1, $this->lines()[2]['in']);
    }

    public function testOff(): void
    {
        touch($this->folder . '/' . Settings::OFF_FILE);
        foreach ([new Settings('harbour', $this->folder), new Settings('harbour', ''), new Settings('h', $this->folder, off: true)] as $settings) {
            $recorder = new Recorder($settings);
            self::assertFalse($recorder->on());
            $recorder->close($recorder->open('request', 'GET /tides'));
            self::assertSame(0, $recorder->make(new \ArrayObject(), []));
            $recorder->end();
        }
        self::assertSame([], $this->lines());
    }

    public function testAShareIsWeighed(): void
    {
        $on = 0;
        for ($n = 0; $n < 400; $n++) {
            $recorder = new Recorder(new Settings('harbour', $this->folder, share: 0.25));
            $recorder->close($recorder->open('request', 'GET /tides'));
            $on += (int) $recorder->on();
            $recorder->end();
        }
        self::assertGreaterThan(50, $on);
        self::assertLessThan(160, $on);
        $opens = array_values(array_filter($this->lines(), static fn (array $line): bool => $line['ev'] === 'open'));
        self::assertCount($on, $opens);
        self::assertSame([4], array_values(array_unique(array_column($opens, 'weight'))));
    }

    public function testMemoryIsBounded(): void
    {
        $recorder = new Recorder(new Settings('harbour', $this->folder));
        $name = str_repeat('x', 4000);
        for ($n = 0; $n < 4000; $n++) {
            $recorder->register(['service' => $name]);
        }
        $recorder->end();
        $lines = $this->lines();
        self::assertLessThan(Recorder::MAX_BYTES + 10_000, filesize(glob($this->folder . '/*.ndjson')[0]));
        self::assertSame(4000 - (count($lines) - 3), $lines[count($lines) - 2]['lost']);
    }

    public function testAResidentTakesAShareOfItsScopes(): void
    {
        $recorder = new Recorder(new Settings('harbour', $this->folder, resident: true, share: 0.25));
        for ($n = 0; $n < 400; $n++) {
            $outer = $recorder->open('job', 'outer');
            $inner = $recorder->open('step', 'inner');
            self::assertSame($recorder->on(), $inner > 0, 'a scope is recorded with all that is in it, or not at all');
            $recorder->make(new \ArrayObject(), []);
            $recorder->close($outer);
        }
        $recorder->end();
        $count = array_count_values(array_column($this->lines(), 'ev'));
        self::assertGreaterThan(50, $count['make']);
        self::assertLessThan(160, $count['make']);
        self::assertSame([2 * $count['make'], 2 * $count['make']], [$count['open'], $count['close']]);
    }

    /** What is alive when recording is switched on in the middle is told, and what it was given is not known any more. */
    public function testAResidentIsSwitched(): void
    {
        $flag = $this->folder . '/' . Settings::OFF_FILE;
        $recorder = new Recorder(new Settings('harbour', $this->folder, resident: true));
        $tides = $recorder->register(['service' => 'Tides', 'lifetime' => 'scoped']);
        $roster = $recorder->register(['service' => 'Roster', 'lifetime' => 'singleton']);
        $alive = new \ArrayObject();
        $scope = $recorder->open('job', 'first');
        $gone = new \ArrayObject();
        $kept = $recorder->make($gone, ['reg' => $tides]);
        $recorder->make($alive, ['reg' => $roster, 'ns' => 5, 'with' => [['inst' => $kept, 'service' => 'Tides']]]);
        touch($flag);
        $recorder->close($scope);
        $scope = $recorder->open('job', 'unseen');
        self::assertFalse($recorder->on());
        exec('rm ' . escapeshellarg($flag)); // by another process: PHP caches what it has looked at itself
        self::assertSame(0, $recorder->make(new \ArrayObject(), ['reg' => $tides]));
        $recorder->close($scope);
        $recorder->close($recorder->open('job', 'last'));
        $recorder->end();
        $streams = [];
        foreach (glob($this->folder . '/*.ndjson') ?: [] as $path) {
            $lines = array_map(static fn (string $line): array => json_decode($line, true), file($path));
            $streams[$lines[count($lines) - 1]['why'] ?? ''] = $lines;
        }
        $first = array_column($streams['recording was switched off'], 'ev');
        self::assertSame(['hello', 'register', 'register', 'open', 'make', 'make', 'close', 'bye'], $first);
        self::assertSame(['hello', 'register', 'register', 'make', 'open', 'close', 'bye'], array_column($streams[''], 'ev'));
        $told = $streams[''][3];
        self::assertSame([$roster, -1, 0], [$told['reg'], $told['t'], $told['scope']]);
        self::assertSame([['inst' => 0, 'service' => 'Tides', 'unknown' => true]], $told['with']);
        self::assertSame($told['inst'], $recorder->idOf($alive));
        self::assertSame(0, $recorder->idOf($gone), 'the other stream knew it');
    }

    /** Whatever form what was given has, it is told without its id in the next stream. */
    public function testAResidentIsSwitchedWhateverWasGiven(): void
    {
        $recorder = new Recorder(new Settings('harbour', $this->folder, resident: true));
        $board = $recorder->register(['service' => 'Board', 'lifetime' => 'singleton']);
        $alive = new \ArrayObject();
        $part = new \ArrayObject();
        $inst = $recorder->make($part, []);
        $with = [$inst, [$inst, ['inst' => $inst, 'service' => 'Part']], ['inst' => $inst, 'key' => 'a']];
        $recorder->make($alive, ['reg' => $board, 'with' => $with]);
        touch($this->folder . '/' . Settings::OFF_FILE);
        $recorder->tick();
        self::assertFalse($recorder->on());
        unlink($this->folder . '/' . Settings::OFF_FILE);
        $recorder->tick();
        self::assertTrue($recorder->on());
        $recorder->end();
        $told = array_values(array_filter($this->lines(), static fn (array $line): bool => $line['ev'] === 'make' && $line['t'] === -1));
        $unknown = ['inst' => 0, 'unknown' => true];
        self::assertEquals([[$unknown, [$unknown, $unknown + ['service' => 'Part']], $unknown + ['key' => 'a']]], array_column($told, 'with'));
    }

    /** A scope for whose line there was no room is not named: another line is in its place. */
    public function testAScopeWithoutALineIsNotNamed(): void
    {
        $recorder = new Recorder(new Settings('harbour', $this->folder));
        $outer = $recorder->open('request', 'GET /tides');
        for ($n = 0; $recorder->totals()['lost'] === 0; $n++) {
            $recorder->say('fail', ['service' => str_repeat('x', 4000), 'why' => 'missing']);
        }
        $inner = $recorder->open('step', str_repeat('y', 4000));
        $recorder->register(['service' => 'Clock']);
        $recorder->name($inner, 'later');
        $recorder->close($outer);
        $recorder->end();
        $registered = array_filter($this->lines(), static fn (array $line): bool => $line['ev'] === 'register');
        self::assertSame(['Clock'], array_column($registered, 'service'));
    }

    /** A process that was forked does not go on with what its parent began. */
    public function testAForkRecordsNothing(): void
    {
        $recorder = new Recorder(new Settings('harbour', $this->folder, resident: true));
        $outer = $recorder->open('job', 'outer');
        $child = pcntl_fork();
        if ($child === 0) {
            $recorder->close($outer);
            $recorder->end();
            posix_kill(posix_getpid(), SIGKILL); // without the test's own endings
        }
        pcntl_waitpid($child, $status);
        $recorder->close($outer);
        $recorder->end();
        self::assertSame(['hello', 'open', 'close', 'bye'], array_column($this->lines(), 'ev'));
    }

    /** What cannot be written is told once, and never to the application. */
    public function testTrouble(): void
    {
        $log = $this->folder . '/error-log';
        $before = ini_set('error_log', $log);
        try {
            $recorder = new Recorder(new Settings('harbour', $this->folder . '/there-is-none'));
            for ($n = 0; $n < 3; $n++) {
                $recorder->close($recorder->open('request', 'GET /tides'));
                $recorder->flush();
            }
            $recorder->end();
        } finally {
            ini_set('error_log', (string) $before);
        }
        self::assertSame(1, substr_count((string) file_get_contents($log), 'Keen Lantern does not record this process'));
    }

    /** Processes that append at once leave whole texts, also while the file is deleted in between. */
    public function testManyAppend(): void
    {
        $path = $this->folder . '/all.ndjson';
        $children = [];
        for ($child = 0; $child < 4; $child++) {
            $pid = pcntl_fork();
            if ($pid === 0) {
                for ($n = 0; $n < 200; $n++) {
                    $text = str_repeat("$child-$n\n", 500);
                    if (FolderSink::append($path, $text) !== '') {
                        posix_kill(posix_getpid(), SIGKILL);
                    }
                }
                posix_kill(posix_getpid(), SIGKILL); // without the test's own endings
            }
            $children[] = $pid;
        }
        $seen = [];
        do {
            usleep(3000);
            $running = 0;
            foreach ($children as $pid) {
                $running += (int) (pcntl_waitpid($pid, $status, WNOHANG) === 0);
            }
            $file = @fopen($path, 'r+');
            if ($file !== false && flock($file, LOCK_EX)) {
                $seen = array_merge($seen, explode("\n", rtrim(stream_get_contents($file), "\n")));
                unlink($path);
                fclose($file);
            }
        } while ($running > 0 || is_file($path));
        $runs = [];
        foreach ($seen as $n => $line) {
            if ($n > 0 && $line !== $seen[$n - 1]) {
                $runs[] = $line;
            }
        }
        self::assertCount(4 * 200 * 500, $seen);
        self::assertCount(799, $runs, 'each text is in one piece');
    }

    /** A service without a scheme is named, and the application goes on. */
    public function testAnAddressWithoutScheme(): void
    {
        $log = tempnam(sys_get_temp_dir(), 'lantern');
        $before = ini_set('error_log', $log);
        $recorder = new Recorder(new Settings('harbour', resident: true, service: '127.0.0.1:7460'));
        ini_set('error_log', (string) $before);
        self::assertFalse($recorder->mayRecord());
        self::assertStringContainsString("KEENLANTERN_SERVICE is '127.0.0.1:7460'; set it to an address", (string) file_get_contents($log));
        unlink($log);
    }
}
