<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * Records instances and scopes of this process. Nothing that it does throws into the application, waits for another machine
 * before the process ends, or holds more than MAX_BYTES.
 *
 * Types, names, ids and times are all that is written: no arguments, values or messages.
 */
final class Recorder
{
    /** The most that is held in memory, in bytes of lines. What comes beyond it is left out, by whole scopes, and counted. */
    public const MAX_BYTES = 8 << 20;

    private const VERSION = 'keenlantern/record php 0.1';
    private const METHODS = ['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS'];
    private const ENTRY_KINDS = ['cli' => 'command', 'phpdbg' => 'command'];
    private const PART = 256 << 10; // bytes of lines of one scope that a process that stays hands over before it closes
    private const SPARE = 1 << 20; // bytes of MAX_BYTES that are for lines without which others mean nothing
    private const NEEDED = ['hello', 'register', 'container', 'close'];
    private const TOGETHER = 100; // events whose lines are written at once, at most
    private const GIVEN = 1000; // ids that these hold of what was given, about
    private const REGISTRATIONS = 20_000; // that are kept for the next stream
    private const OUTLIVE = ['singleton', 'external'];

    private ?Stream $stream = null; // null: nothing is recorded
    private bool $live = false; // recording, and not in a scope that is left out
    /** @var list<array{string, int, array<string, mixed>}> events whose lines are not written yet: kind, when, members */
    private array $pending = [];
    private int $given = 0; // ids in what is pending
    /**
     * @var ?array{int, int, ?array{string, int, array<string, mixed>}} the scope that was opened last: its id, and its place among what is
     *     pending, or among the lines and what was written there
     */
    private ?array $opened = null;
    private ?Sink $sink = null;
    private ?Orders $orders = null;
    private ?int $pid = null;
    private bool $wanted; // whether a process that stays is to be recorded, from its next scope on
    private float $share;
    private int $limit = 0; // ns after which a stream ends, 0 for none
    private int $most = 0; // bytes after which it ends, 0 for none
    private int $written = 0; // bytes of this stream
    /** @var list<string> */
    private array $lines = [];
    private int $bytes = 0;
    private int $lost = 0;
    private int $noted = 0; // events, of all streams
    private int $dropped = 0; // of all streams
    private string $stopped = ''; // why
    private bool $ended = false;
    private bool $reported = false;
    /** @var array<int, string> who handles the work of scopes that are open, by scope */
    private array $handlers = [];

    /** @var array<int, array<string, mixed>> registrations by id: a process that stays tells them again in its next stream */
    private array $registrations = [];
    private int $registered = 0;
    /** Writes keys of any type. */
    public readonly Keys $keys;
    private int $instances = 0;
    private int $scopes = 0;
    private int $unrecorded = 0;
    /** @var ?\WeakMap<object, int> the instances of this stream */
    private ?\WeakMap $known = null;
    /** @var ?\WeakMap<object, array<string, mixed>> those that outlive scopes, as they were told */
    private ?\WeakMap $outliving = null;
    /** @var list<int> the scopes that are open, the innermost last; those below 0 are not recorded */
    private array $open = [];

    /** @param list<string> $sees what can be seen of this application: with, shared, use, dispose, dispose-code, closes, fail */
    public function __construct(private readonly Settings $settings, private readonly array $sees = ['with', 'shared', 'closes', 'fail'])
    {
        $this->keys = new Keys($settings->hideUnregistered);
        $this->share = \max(0.0, \min(1.0, $settings->share));
        $this->wanted = !$settings->off;
        try {
            $settings->resident ? $this->stay() : $this->once();
        } catch (\Throwable $e) {
            $this->trouble($e->getMessage());
        }
    }

    /** Begins in a process that lives for one request. */
    private function once(): void
    {
        if (!$this->settings->on() || !$this->chosen()) {
            return;
        }
        $this->ready(new FolderSink($this->settings));
        $this->begin();
    }

    /** Begins in a process that serves many requests, and may be switched while it does. */
    private function stay(): void
    {
        if ($this->settings->service === '' && $this->settings->folder === '') {
            return;
        }
        if ($this->settings->service !== '' && !\preg_match('#^https?://[^/]#i', $this->settings->service)) {
            $this->trouble("KEENLANTERN_SERVICE is '{$this->settings->service}'; set it to an address such as http://127.0.0.1:7460");
            return;
        }
        if ($this->settings->service === '') {
            $this->ready(new FolderSink($this->settings));
        } else {
            $this->ready(new ServiceSink($this->settings));
            $this->orders = $this->settings->alone ? null : new Orders($this->settings);
        }
        $this->turn();
    }

    private function ready(Sink $sink): void
    {
        $this->sink = $sink;
        $this->pid = \getmypid() ?: null;
        \register_shutdown_function($this->end(...));
    }

    /** Whether what happens now is recorded. */
    public function on(): bool
    {
        return $this->live;
    }

    /** Whether it may be recorded at any time: adapters of those that are not may step aside for good. */
    public function mayRecord(): bool
    {
        return $this->sink !== null;
    }

    /** ns since the stream's start. */
    public function now(): int
    {
        return $this->stream?->now() ?? 0;
    }

    /** What an hrtime, in ns, is since the stream's start. */
    public function at(int $hrtime): int
    {
        return $hrtime - ($this->stream->began ?? $hrtime);
    }

    /** The id of the stream that is being recorded, '' for none. */
    public function stream(): string
    {
        return $this->stream->id ?? '';
    }

    /** What has been noted and left out so far, in events. @return array{events: int, lost: int} */
    public function totals(): array
    {
        return ['events' => $this->noted + \count($this->pending), 'lost' => $this->dropped + $this->lost];
    }

    /** The scope that work runs in now; 0 is the root. */
    public function scope(): int
    {
        return $this->open === [] ? 0 : \max(0, $this->open[\count($this->open) - 1]);
    }

    /**
     * Opens a scope, for a request or a job, in the one that is open.
     *
     * @param string $kind such as "request"
     * @param string $name its route rather than its path, such as "GET /tides/{gauge}": names are bounded
     * @param ?string $traceparent the request's header, to find the scopes of other services that belong to it
     * @return int its id, for close
     */
    public function open(string $kind, string $name = '', ?string $traceparent = null): int
    {
        if ($this->open === [] && $this->settings->resident) {
            $this->turn();
        }
        if ($this->stream === null || !$this->admits()) {
            $this->live = false;
            return $this->open[] = -(++$this->unrecorded);
        }
        $id = ++$this->scopes;
        $members = ['scope' => $id];
        if (($in = $this->scope()) !== 0) {
            $members['in'] = $in;
        }
        if ($name !== '') {
            $members['name'] = $name;
        }
        $members['kind'] = $kind;
        if ($traceparent !== null && \preg_match('/^[0-9a-f]{2}-([0-9a-f]{32})-[0-9a-f]{16}-[0-9a-f]{2}/', $traceparent, $match)) {
            $members['trace'] = $match[1];
        }
        if ($this->share < 1.0) {
            $members['weight'] = (int) \round(1 / $this->share);
        }
        if ($this->open === []) {
            $this->handlers[$id] = $kind; // until one is named
        }
        $this->open[] = $id;
        if ($this->opened !== null) {
            $this->write(); // only the last one's line can be changed
        }
        $this->opened = $this->live && !$this->ended ? [$id, \count($this->pending), null] : null;
        $this->say('open', $members);
        return $id;
    }

    /** Names the scope that was opened last, whose name has become known: while its line has not been handed over. */
    public function name(int $scope, string $name): void
    {
        if ($this->opened === null || $this->opened[0] !== $scope || !$this->live) {
            return;
        }
        [, $at, $written] = $this->opened;
        if ($written === null) {
            $this->pending[$at][2]['name'] = $name;
            return;
        }
        $written[2]['name'] = $name;
        $line = Line::of(...$written);
        $this->bytes += \strlen($line) - \strlen($this->lines[$at]);
        $this->lines[$at] = $line;
    }

    /** Whether a scope is recorded that opens now: inside of another one, whatever became of that. */
    private function admits(): bool
    {
        if ($this->open !== []) {
            return $this->open[\count($this->open) - 1] > 0;
        }
        if ($this->settings->resident && !$this->chosen()) {
            return false;
        }
        if ($this->bytes + $this->sink->held() > self::MAX_BYTES / 2) {
            $this->lost++; // there is no output: the whole scope is left out
            return false;
        }
        return true;
    }

    private function chosen(): bool
    {
        return $this->share >= 1.0 || $this->share > 0.0 && \mt_rand() / \mt_getrandmax() < $this->share;
    }

    /** Closes a scope, and those that are open in it. A process that serves many requests hands over what it has. */
    public function close(int $scope): void
    {
        if (!\in_array($scope, $this->open, true)) {
            return;
        }
        do {
            $id = \array_pop($this->open);
            unset($this->handlers[$id]);
            if ($id > 0) {
                $this->say('close', ['scope' => $id]);
            }
            if ($this->opened !== null && $this->opened[0] === $id) {
                $this->opened = null; // its name is settled
            }
        } while ($id !== $scope);
        if ($this->open === []) {
            $this->live = $this->stream !== null;
            if ($this->settings->resident) {
                $this->flush();
            }
        }
    }

    /**
     * Reports a registration.
     *
     * @param array<string, mixed> $members service, lifetime, impl …, as the trace format has them
     * @param int $id of a registration of which more is known now; 0: a new one
     * @return int its id
     */
    public function register(array $members, int $id = 0): int
    {
        $id = $id ?: ++$this->registered;
        if ($this->settings->resident && \count($this->registrations) < self::REGISTRATIONS) {
            $this->registrations[$id] = $members;
        }
        $this->say('register', ['reg' => $id] + $members);
        return $id;
    }

    /** The id of a recorded instance, 0 for none. */
    public function idOf(object $instance): int
    {
        return $this->known[$instance] ?? 0;
    }

    /**
     * Tells that an instance has been built in the scope that is open.
     *
     * @param array<string, mixed> $members reg, with, ns, by …
     * @param ?int $t when it was there, by now(); null: now
     * @return int its id, 0 if it is not recorded
     */
    public function make(object $instance, array $members, ?int $t = null): int
    {
        if (!$this->live) {
            return 0;
        }
        $this->known[$instance] = $id = ++$this->instances;
        $this->say('make', ['inst' => $id, 'scope' => $members['scope'] ?? $this->scope()] + $members, $t);
        if ($this->settings->resident && \in_array($this->registrations[$members['reg'] ?? 0]['lifetime'] ?? '', self::OUTLIVE, true)) {
            unset($members['scope']);
            $this->outliving[$instance] = $members;
        }
        return $id;
    }

    /**
     * Writes a line. It is for adapters.
     *
     * @param array<string, mixed> $members
     */
    public function say(string $kind, array $members, ?int $t = null): void
    {
        if (!$this->live || $this->ended) {
            return;
        }
        if ($kind === 'fail' && ($members['why'] ?? '') === 'missing') {
            $members = $this->keys->unregistered($members);
        }
        $this->pending[] = [$kind, $t ?? \hrtime(true) - $this->stream->began, $members];
        if (isset($members['with'])) {
            $this->given += \count((array) $members['with'], COUNT_RECURSIVE);
        }
        // What was requested may be a text of any length, of which the line has the beginning.
        $long = $kind === 'fail' || isset($members['service'][Format::MAX_TEXT]);
        if ($long || \count($this->pending) >= self::TOGETHER || $this->given >= self::GIVEN) {
            $this->write();
            if ($this->bytes > self::PART && $this->settings->resident) {
                $this->handOver();
            }
        }
    }

    /** Writes the lines of what is pending. That of a scope that may be named yet stands alone. */
    private function write(): void
    {
        $events = $this->pending;
        $this->pending = [];
        $this->given = 0;
        if ($this->opened === null || $this->opened[2] !== null) {
            $this->together($events);
            return;
        }
        [$scope, $at] = $this->opened;
        $this->opened = null;
        $this->together(\array_slice($events, 0, $at));
        $lines = \count($this->lines);
        $this->together([$events[$at]]);
        if (\count($this->lines) > $lines) { // there was room for it
            $this->opened = [$scope, $lines, $events[$at]];
        }
        $this->together(\array_slice($events, $at + 1));
    }

    /** @param list<array{string, int, array<string, mixed>}> $events */
    private function together(array $events): void
    {
        if ($events === []) {
            return;
        }
        try {
            $lines = Line::all($events);
            if (self::MAX_BYTES - $this->bytes - $this->sink->held() - \strlen($lines) >= self::SPARE) {
                $this->put($lines, \count($events));
                return;
            }
        } catch (\Throwable) {
            // One of them cannot be written: that is seen below.
        }
        foreach ($events as [$kind, $t, $members]) {
            $this->alone($kind, $t, $members);
        }
    }

    /** @param array<string, mixed> $members */
    private function alone(string $kind, int $t, array $members): void
    {
        try {
            $line = Line::of($kind, $t, $members);
            $room = self::MAX_BYTES - $this->bytes - $this->sink->held() - \strlen($line);
            if ($room < 0 || $room < self::SPARE && !\in_array($kind, self::NEEDED, true)) {
                $this->lost++;
                return;
            }
            $this->put($line);
        } catch (\Throwable $e) {
            $this->lost++;
            $this->trouble($e->getMessage());
        }
    }

    private function put(string $lines, int $events = 1): void
    {
        $this->lines[] = $lines;
        $this->bytes += \strlen($lines);
        $this->written += \strlen($lines);
        $this->noted += $events;
    }

    /**
     * Writes what is left, ends the stream and waits for the service, if it goes to one. It is called when the process ends.
     *
     * @return string '' if all that was noted has arrived, else why it has not
     */
    public function end(): string
    {
        if ($this->sink === null || $this->ended || $this->forked()) {
            return '';
        }
        $this->orders?->end();
        try {
            $this->finish('');
            $why = $this->sink->finish($this->settings->flushWithin);
        } catch (\Throwable $e) {
            $why = $e->getMessage();
        }
        $this->ended = true;
        $this->live = false;
        if ($why !== '') {
            $this->stop($why);
        }
        return $this->stopped;
    }

    /** Hands over what there is. */
    public function flush(): void
    {
        if ($this->sink === null || $this->ended || $this->forked()) {
            return;
        }
        $this->handOver();
        if ($this->stream !== null && ($this->most > 0 && $this->written >= $this->most || $this->limit > 0 && $this->now() >= $this->limit)) {
            $this->wanted = false;
            $this->finish('recording reached its limit');
        }
    }

    /**
     * Does what has to be done between requests: sends what waits, and learns what the service wants. Scopes that open and close
     * do so, too; a worker that may be idle for long calls it in its loop.
     */
    public function tick(): void
    {
        if ($this->open === [] && $this->settings->resident && !$this->ended) {
            $this->turn();
        }
    }

    /** Switches recording on or off, as is wanted. */
    private function turn(): void
    {
        if ($this->sink === null || $this->ended || $this->forked()) {
            return;
        }
        try {
            $this->stepped($this->sink->step());
            $order = $this->orders?->step(fn (): array => $this->totals() + [
                'on' => $this->stream !== null, 'share' => $this->share, 'stream' => $this->stream->id ?? '',
            ]);
            if ($order !== null) {
                $this->finish('recording was switched off'); // another order is another stream
                $this->wanted = $order['on'];
                [$this->share, $this->limit, $this->most] = [$order['share'], $order['for_ns'], $order['bytes']];
            }
            \clearstatcache();
            $wanted = $this->wanted && ($this->settings->service !== '' || $this->settings->on());
            if ($wanted && $this->stream === null) {
                $this->begin();
            } elseif (!$wanted && $this->stream !== null) {
                $this->finish('recording was switched off');
            }
        } catch (\Throwable $e) {
            $this->stop($e->getMessage());
        }
    }

    /** Begins a stream. */
    private function begin(): void
    {
        $this->stream = new Stream();
        $this->live = true;
        $this->written = 0;
        $this->known = new \WeakMap();
        $this->pending[] = ['hello', 0, $this->hello()];
        if ($this->settings->resident) {
            $this->resume();
        }
    }

    /** Tells a new stream of a process that stays what is registered, and what is alive and outlives scopes. */
    private function resume(): void
    {
        $before = $this->outliving ?? [];
        $this->outliving = new \WeakMap();
        $this->put(Line::all($this->pending)); // as what follows it, this is told whatever waits to be taken
        $this->pending = [];
        foreach ($this->registrations as $id => $members) {
            $this->put(Line::of('register', 0, ['reg' => $id] + $members));
        }
        $told = [];
        foreach ($before as $instance => $members) {
            $told[] = [$instance, $members];
            $this->known[$instance] = ++$this->instances;
        }
        foreach ($told as [$instance, $members]) {
            unset($members['ns']);
            if (isset($members['with'])) {
                $members['with'] = \array_map(self::unknown(...), $members['with']);
            }
            $this->outliving[$instance] = $members;
            $this->put(Line::of('make', -1, ['inst' => $this->known[$instance], 'scope' => 0] + $members));
        }
    }

    /** What was given, without its id, which is another stream's: an id, what is said of one, or a list of these. */
    private static function unknown(mixed $given): array
    {
        return match (true) {
            !\is_array($given) => ['unknown' => true],
            \array_is_list($given) => \array_map(self::unknown(...), $given),
            default => ['unknown' => true] + \array_diff_key($given, ['inst' => 0]),
        };
    }

    /** Ends a stream. */
    private function finish(string $why): void
    {
        if ($this->stream === null) {
            return;
        }
        while ($this->open !== []) {
            $id = \array_pop($this->open);
            unset($this->handlers[$id]);
            $this->live = true;
            if ($id > 0) {
                $this->say('close', ['scope' => $id]);
            }
        }
        $this->write();
        $this->gap(); // of what could not be written, too
        $this->put(Line::of('bye', $this->now(), $why === '' ? [] : ['why' => $why]));
        $this->handOver();
        $this->stream = null;
        $this->live = false;
    }

    private function gap(): void
    {
        if ($this->lost > 0) {
            $this->put(Line::of('gap', $this->now(), ['lost' => $this->lost, 'why' => 'no memory left']));
            $this->dropped += $this->lost;
            $this->lost = 0;
        }
    }

    private function handOver(): void
    {
        if ($this->stream === null) {
            $this->stepped($this->sink->step());
            return;
        }
        $this->write();
        if ($this->lost > 0 && $this->bytes + $this->sink->held() < self::MAX_BYTES / 2) {
            $this->gap();
        }
        $text = \implode('', $this->lines);
        $this->lines = [];
        $this->opened = null;
        $this->bytes = 0;
        try {
            $this->stepped($text === '' ? $this->sink->step() : $this->sink->take($this->stream, $text));
        } catch (\Throwable $e) {
            $this->stop($e->getMessage());
        }
    }

    private function stepped(string $why): void
    {
        if ($why !== '') {
            $this->stop($why);
        }
    }

    /** Records no longer: the lines are gone, and what would follow means nothing without them. */
    private function stop(string $why): void
    {
        $this->stream = null;
        $this->live = false;
        $this->wanted = false;
        $this->lines = $this->pending = [];
        $this->opened = null;
        $this->bytes = 0;
        $this->stopped = $why;
        $this->trouble($why);
    }

    /** A process that was forked has its parent's stream in memory, which it must not go on with. */
    private function forked(): bool
    {
        if (\getmypid() === $this->pid) {
            return false;
        }
        $this->sink = null;
        $this->orders = null;
        $this->stream = null;
        $this->live = false;
        return true;
    }

    /** @return array<string, mixed> */
    private function hello(): array
    {
        // The clock is read once, for now, and taken back by what has passed.
        $nanos = (int) (\microtime(true) * 1e6) * 1000 - $this->now();
        $start = \gmdate('Y-m-d\TH:i:s.', \intdiv($nanos, 1_000_000_000)) . \substr((string) (1_000_000_000 + $nanos % 1_000_000_000), 1) . 'Z';
        $members = [
            'format' => Format::NAME, 'app' => $this->settings->app, 'stream' => $this->stream->id, 'start' => $start,
            'version' => $this->settings->version, 'language' => 'php ' . PHP_MAJOR_VERSION . '.' . PHP_MINOR_VERSION,
            'host' => (string) \gethostname(), 'pid' => (int) $this->pid, 'environment' => $this->settings->environment,
            'labels' => $this->settings->labels, 'recorder' => self::VERSION, 'sees' => $this->sees,
        ];
        foreach (['version', 'environment', 'labels'] as $name) {
            if ($members[$name] === '' || $members[$name] === []) {
                unset($members[$name]);
            }
        }
        return $members;
    }

    /** Tells once, where the application's own troubles go, that something could not be recorded. */
    private function trouble(string $why): void
    {
        if (!$this->reported) {
            $this->reported = true;
            \error_log("Keen Lantern does not record this process: $why");
        }
    }

    /** A request's method if it is one that HTTP has: a client may invent others, without end. */
    public static function methodOf(string $method): string
    {
        return \in_array($method, self::METHODS, true) ? $method : 'OTHER';
    }

    /** Names the handler of the work in the scope that is open, such as "PilotController@arrivals", for as long as that is. */
    public function handledBy(string $handler): void
    {
        if ($handler !== '' && ($scope = $this->scope()) !== 0) {
            $this->handlers[$scope] = $handler;
        }
    }

    /** Who asks, where no instance does: the handler of the work that runs, or the kind of that work. */
    public function entry(): string
    {
        foreach (\array_reverse($this->open) as $scope) {
            if (isset($this->handlers[$scope])) {
                return $this->handlers[$scope];
            }
        }
        return self::kind();
    }

    /** What a scope of a process like this one is. */
    public static function kind(): string
    {
        return self::ENTRY_KINDS[PHP_SAPI] ?? 'request';
    }
}
