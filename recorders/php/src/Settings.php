<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/** What is recorded, and where it goes. */
final class Settings
{
    /** The file in the folder that switches recording off while it is there. */
    public const OFF_FILE = 'recording-off';

    /**
     * @param string $app the application's name
     * @param string $folder where traces are written, for "keenlantern follow" to send on; '' records nothing, unless there
     *     is a service
     * @param bool $resident whether this process serves many requests (a queue's worker, a resident server); otherwise it
     *     lives for one request, and what it writes is a separate stream
     * @param float $share the part of requests that is recorded, above 0 and up to 1
     * @param array<string, string> $labels
     * @param bool $off whether recording begins switched off; a resident process may be switched on from the service
     * @param string $service the address of a service, such as "http://127.0.0.1:7460", that a resident process sends to
     *     itself, instead of a folder
     * @param string $token what the service is to be shown, if it asks for one
     * @param bool $alone whether a resident process leaves the service's orders unasked
     * @param float $flushWithin the seconds that a resident process waits at its end, until the service has taken all
     * @param float $timeout the seconds within which the service has to take a batch; it is sent again otherwise
     * @param bool $hideUnregistered whether "(not registered)" is written for every service or key that is asked for and not
     *     registered, which may come from a request; otherwise the first 256 different ones of a process are written
     * @param int $batch the bytes of lines from which a batch is full; it is packed in one go, in the process that serves
     *     requests
     */
    public function __construct(
        public readonly string $app,
        public readonly string $folder = '',
        public readonly bool $resident = false,
        public readonly float $share = 1.0,
        public readonly string $environment = '',
        public readonly string $version = '',
        public readonly array $labels = [],
        public readonly bool $off = false,
        public readonly string $service = '',
        public readonly string $token = '',
        public readonly bool $alone = false,
        public readonly float $flushWithin = 5.0,
        public readonly float $timeout = 10.0,
        public readonly int $batch = 256 << 10,
        public readonly bool $hideUnregistered = false,
    ) {
    }

    /**
     * Reads KEENLANTERN_APP, _FOLDER, _SERVICE, _TOKEN, _SHARE, _ENVIRONMENT, _VERSION, _OFF and _HIDE_UNREGISTERED;
     * what is not set is as it is
     * by default.
     */
    public static function fromEnvironment(string $app = 'php', bool $resident = false): self
    {
        $of = static fn (string $name): string => (string) (\getenv('KEENLANTERN_' . $name) ?: '');
        $share = $of('SHARE');
        return new self(
            $of('APP') ?: $app,
            $of('FOLDER'),
            $resident,
            \is_numeric($share) ? (float) $share : 1.0,
            $of('ENVIRONMENT'),
            $of('VERSION'),
            off: self::isYes($of('OFF')),
            service: $of('SERVICE'),
            token: $of('TOKEN'),
            hideUnregistered: self::isYes($of('HIDE_UNREGISTERED')),
        );
    }

    /** Whether anything is to be recorded: one look at a file, where there is a folder. */
    public function on(): bool
    {
        return !$this->off && self::recordsInto($this->folder);
    }

    /** Whether a process that lives for one request is recorded: fromEnvironment()->on(), for those that are not, which it costs less. */
    public static function wanted(): bool
    {
        return !self::isYes((string) \getenv('KEENLANTERN_OFF')) && self::recordsInto((string) \getenv('KEENLANTERN_FOLDER'));
    }

    private static function recordsInto(string $folder): bool
    {
        return $folder !== '' && !\file_exists($folder . '/' . self::OFF_FILE);
    }

    private static function isYes(string $text): bool
    {
        return \in_array($text, ['1', 'true', 'yes'], true);
    }
}
