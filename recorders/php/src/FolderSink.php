<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * Appends lines to files in a folder, which "keenlantern follow" sends on.
 *
 * @internal
 */
final class FolderSink implements Sink
{
    public function __construct(private readonly Settings $settings)
    {
    }

    public function take(Stream $stream, string $lines): string
    {
        // A file of its own for a process that stays, one for an hour's requests otherwise.
        $app = preg_replace('/[^A-Za-z0-9_.-]+/', '-', $this->settings->app);
        $name = $this->settings->resident ? "$app-$stream->id.ndjson" : $app . '-' . gmdate('Ymd-H') . '.requests.ndjson';
        return Folder::append(rtrim($this->settings->folder, '/') . '/' . $name, $lines);
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
}
