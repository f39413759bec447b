<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * Records instances and scopes of this process. Nothing that it does throws into the application, waits for anything but the
 * file that it appends to, or holds more than MAX_BYTES.
 *
 * Types, names, ids and times are all that is written: no arguments, values or messages.
 */
final class Recorder
{
    /** The most that is held in memory, in bytes of lines. What comes beyond it is counted as lost. */
    public const MAX_BYTES = 8 << 20;

    private const VERSION = 'keenlantern/record php 0.1';
    private const ENTRY_KINDS = ['cli' => 'command', 'phpdbg' => 'command'];

    private bool $on = false;
    private string $stream = '';
    private int $began = 0;
    private int $weight = 1;
    /** @var list<string> */
    private array $lines = [];
    private int $bytes = 0;
    private int $lost = 0;
    private bool $begun = false;
    private bool $ended = false;
    private bool $reported = false;

    private int $registrations = 0;
    private int $instances = 0;
    private int $scopes = 0;
    /** @var \WeakMap<object, int> */
    private \WeakMap $known;
    /** @var list<int> the scopes that are open, the innermost last */
    private array $open = [];
    /** @var list<string> */
    private array $sees;

    /** @param list<string> $sees what can be seen of this application: with, shared, use, dispose, dispose-code, closes, fail */
    public function __construct(private readonly Settings $settings, array $sees = ['with', 'shared', 'closes', 'fail'])
    {
        $this->known = new \WeakMap();
        $this->sees = $sees;
        try {
            if (!$settings->on()) {
                return;
            }
            $share = max(0.0, min(1.0, $settings->share));
            if (!$settings->resident && $share < 1.0) {
                if ($share <= 0.0 || mt_rand() / mt_getrandmax() >= $share) {
                    return;
                }
                $this->weight = (int) round(1 / $share);
            }
            $this->on = true;
            $this->stream = bin2hex(random_bytes(12));
            $this->began = hrtime(true);
            register_shutdown_function($this->end(...));
        } catch (\Throwable $e) {
            $this->trouble($e->getMessage());
        }
    }

    /** Whether this process is recorded. */
    public function on(): bool
    {
        return $this->on;
    }

    /** ns since the stream's start. */
    public function now(): int
    {
        return hrtime(true) - $this->began;
    }

    /** The scope that work runs in now; 0 is the root. */
    public function scope(): int
    {
        return $this->open === [] ? 0 : $this->open[count($this->open) - 1];
    }

    /**
     * Opens a scope, for a request or a job, in the one that is open.
     *
     * @param string $kind such as "request"
     * @param string $name its route rather than its path, such as "GET /tides/{gauge}": names are bounded
     * @param ?string $traceparent the request's header, to find the scopes of other services that belong to it
     * @return int its id, for close
     */
    public function open(string $kind, string $name, ?string $traceparent = null): int
    {
        if (!$this->on) {
            return 0;
        }
        $id = ++$this->scopes;
        $members = ['scope' => $id, 'kind' => $kind, 'name' => $name];
        if (($in = $this->scope()) !== 0) {
            $members['in'] = $in;
        }
        if ($traceparent !== null && preg_match('/^[0-9a-f]{2}-([0-9a-f]{32})-[0-9a-f]{16}-[0-9a-f]{2}/', $traceparent, $match)) {
            $members['trace'] = $match[1];
        }
        if ($this->weight > 1) {
            $members['weight'] = $this->weight;
        }
        $this->open[] = $id;
        $this->say('open', $members);
        return $id;
    }

    /** Closes a scope, and those that are open in it. A process that serves many requests writes what it has. */
    public function close(int $scope): void
    {
        if (!$this->on || !in_array($scope, $this->open, true)) {
            return;
        }
        do {
            $id = array_pop($this->open);
            $this->say('close', ['scope' => $id]);
        } while ($id !== $scope);
        if ($this->settings->resident && $this->open === []) {
            $this->flush();
        }
    }

    /**
     * Tells of a registration.
     *
     * @param array<string, mixed> $members service, lifetime, impl …, as the trace format has them
     * @return int its id
     */
    public function register(array $members): int
    {
        $this->say('register', ['reg' => ++$this->registrations] + $members);
        return $this->registrations;
    }

    /** The id of an instance that has been told of, 0 for none. */
    public function idOf(object $instance): int
    {
        return $this->known[$instance] ?? 0;
    }

    /**
     * Tells that an instance has been built in the scope that is open.
     *
     * @param array<string, mixed> $members reg, with, ns, by …
     * @param ?int $t when it was there, by now(); null: now
     * @return int its id
     */
    public function make(object $instance, array $members, ?int $t = null): int
    {
        if (!$this->on) {
            return 0;
        }
        $this->known[$instance] = $id = ++$this->instances;
        $this->say('make', ['inst' => $id, 'scope' => $this->scope()] + $members, $t);
        return $id;
    }

    /**
     * Writes a line. It is for adapters.
     *
     * @param array<string, mixed> $members
     */
    public function say(string $kind, array $members, ?int $t = null): void
    {
        if (!$this->on || $this->ended) {
            return;
        }
        try {
            $line = Line::of($kind, $t ?? $this->now(), $members);
            if ($this->bytes + strlen($line) > self::MAX_BYTES) {
                $this->lost++;
                return;
            }
            $this->lines[] = $line;
            $this->bytes += strlen($line);
        } catch (\Throwable $e) {
            $this->lost++;
            $this->trouble($e->getMessage());
        }
    }

    /** Writes what is left and ends the stream. It is called when the process ends. */
    public function end(): void
    {
        if (!$this->on || $this->ended) {
            return;
        }
        while ($this->open !== []) {
            $this->say('close', ['scope' => array_pop($this->open)]);
        }
        $this->gap();
        $bye = Line::of('bye', $this->now(), []);
        $this->lines[] = $bye;
        $this->flush();
        $this->ended = true;
    }

    private function gap(): void
    {
        if ($this->lost > 0) {
            $this->lines[] = Line::of('gap', $this->now(), ['lost' => $this->lost, 'why' => 'no memory left']);
            $this->lost = 0;
        }
    }

    /** Appends what there is to the file. */
    public function flush(): void
    {
        if (!$this->on || $this->lines === []) {
            return;
        }
        try {
            $this->gap();
            $text = implode('', $this->lines);
            if (!$this->begun) {
                $text = $this->hello() . $text;
                $this->begun = true;
            }
            $this->lines = [];
            $this->bytes = 0;
            $why = Folder::append($this->path(), $text);
            if ($why !== '') {
                $this->on = false; // the lines are gone, and what would follow means nothing without them
                $this->trouble($why);
            }
        } catch (\Throwable $e) {
            $this->on = false;
            $this->trouble($e->getMessage());
        }
    }

    /** Where the lines go: a file of its own for a process that stays, one for an hour's requests otherwise. */
    private function path(): string
    {
        $app = preg_replace('/[^A-Za-z0-9_.-]+/', '-', $this->settings->app);
        $folder = rtrim($this->settings->folder, '/');
        return $this->settings->resident
            ? "$folder/$app-{$this->stream}.ndjson"
            : "$folder/$app-" . gmdate('Ymd-H') . '.requests.ndjson';
    }

    private function hello(): string
    {
        // The clock is read once, for now, and taken back by what has passed.
        $nanos = (int) (microtime(true) * 1e6) * 1000 - $this->now();
        $start = gmdate('Y-m-d\TH:i:s', intdiv($nanos, 1_000_000_000)) . sprintf('.%09dZ', $nanos % 1_000_000_000);
        $members = [
            'format' => Format::NAME, 'app' => $this->settings->app, 'stream' => $this->stream, 'start' => $start,
            'language' => 'php ' . PHP_MAJOR_VERSION . '.' . PHP_MINOR_VERSION, 'host' => (string) gethostname(),
            'pid' => (int) getmypid(), 'recorder' => self::VERSION, 'sees' => $this->sees,
        ];
        foreach (['environment', 'version'] as $name) {
            if ($this->settings->$name !== '') {
                $members[$name] = $this->settings->$name;
            }
        }
        if ($this->settings->labels !== []) {
            $members['labels'] = $this->settings->labels;
        }
        return Line::of('hello', 0, $members);
    }

    /** Tells once, where the application's own troubles go, that something could not be recorded. */
    private function trouble(string $why): void
    {
        if (!$this->reported) {
            $this->reported = true;
            error_log("Keen Lantern does not record this process: $why");
        }
    }

    /** What a scope of a process like this one is. */
    public static function kind(): string
    {
        return self::ENTRY_KINDS[PHP_SAPI] ?? 'request';
    }
}
