<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * Appends lines to files in a folder, which others append to as well, and which "keenlantern follow" sends on and deletes.
 *
 * @internal
 */
final class FolderSink implements Sink
{
    private const TRIES = 100;

    public function __construct(private readonly Settings $settings)
    {
    }

    public function take(Stream $stream, string $lines): string
    {
        // A file of its own for a process that stays, one for an hour's requests otherwise.
        $app = \preg_replace('/[^A-Za-z0-9_.-]+/', '-', $this->settings->app);
        $name = $this->settings->resident ? "$app-$stream->id.ndjson" : $app . '-' . \gmdate('Ymd-H') . '.requests.ndjson';
        return self::append(\rtrim($this->settings->folder, '/') . '/' . $name, $lines);
    }

    public function held(): int
    {
        return 0;
    }

    public function step(): string
    {
        return '';
    }

    public function finish(float $seconds): string
    {
        return '';
    }

    /**
     * Appends a text as a whole, under a lock. It never throws.
     *
     * @return string '' if it was written, else why it was not
     */
    public static function append(string $path, string $text): string
    {
        for ($try = 0; $try < self::TRIES; $try++) {
            $file = @\fopen($path, 'ab');
            if ($file === false) {
                return "cannot open $path";
            }
            try {
                if (!\flock($file, LOCK_EX)) {
                    return "cannot lock $path";
                }
                $stat = \fstat($file);
                if ($stat !== false && $stat['nlink'] === 0) {
                    continue; // it was deleted between opening and locking: what is written into it would be lost
                }
                $before = $stat['size'] ?? 0;
                if (self::write($file, $text)) {
                    return '';
                }
                @\ftruncate($file, $before); // no half of it stays
                return "cannot write $path";
            } finally {
                \fclose($file); // which unlocks it
            }
        }
        return "$path is deleted again and again";
    }

    /** @param resource $file */
    private static function write($file, string $text): bool
    {
        for ($at = 0, $end = \strlen($text); $at < $end; $at += $n) {
            $n = @\fwrite($file, $at === 0 ? $text : \substr($text, $at));
            if ($n === false || $n === 0) {
                return false;
            }
        }
        return \fflush($file);
    }
}
