<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/** What is recorded, and where it goes. */
final class Settings
{
    /**
     * @param string $app the application's name
     * @param string $folder where traces are written, for "keenlantern follow" to send on; '' records nothing
     * @param bool $resident whether this process serves many requests (a queue's worker, a resident server); otherwise it
     *     lives for one request, and what it writes is a stream of its own
     * @param float $share the part of requests that is recorded, above 0 and up to 1
     * @param array<string, string> $labels
     */
    public function __construct(
        public readonly string $app,
        public readonly string $folder,
        public readonly bool $resident = false,
        public readonly float $share = 1.0,
        public readonly string $environment = '',
        public readonly string $version = '',
        public readonly array $labels = [],
        public readonly bool $off = false,
    ) {
    }

    /** Reads KEENLANTERN_APP, _FOLDER, _SHARE, _ENVIRONMENT, _VERSION and _OFF; what is not set is as it is by default. */
    public static function fromEnvironment(string $app = 'php', bool $resident = false): self
    {
        $of = static fn (string $name): string => (string) (getenv('KEENLANTERN_' . $name) ?: '');
        $share = $of('SHARE');
        return new self(
            $of('APP') ?: $app,
            $of('FOLDER'),
            $resident,
            is_numeric($share) ? (float) $share : 1.0,
            $of('ENVIRONMENT'),
            $of('VERSION'),
            off: in_array($of('OFF'), ['1', 'true', 'yes'], true),
        );
    }

    /** The file in the folder that switches recording off while it is there. */
    public const OFF_FILE = 'recording-off';

    /** Whether anything is to be recorded: one look at a file, where there is a folder. */
    public function on(): bool
    {
        return !$this->off && $this->folder !== '' && !file_exists($this->folder . '/' . self::OFF_FILE);
    }
}
