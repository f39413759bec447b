<?php

declare(strict_types=1);

namespace Gallery;

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;

/** How an application of the gallery is run: as a process that serves several requests. */
final class Running
{
    public readonly Settings $settings;
    public readonly string $folder;
    private ?Recorder $recorder = null;

    public function __construct(string $name, public readonly bool $mistaken)
    {
        $this->folder = sys_get_temp_dir() . '/keenlantern-gallery-' . bin2hex(random_bytes(6));
        mkdir($this->folder);
        mkdir("$this->folder/traces");
        $this->settings = new Settings("gallery-$name", "$this->folder/traces", true, environment: 'production');
    }

    /** The recorder, unless the application makes its own of the settings. */
    public function recorder(): Recorder
    {
        return $this->recorder ??= new Recorder($this->settings);
    }

    /** Has the application's own recorder be ended, too. */
    public function recordedBy(Recorder $recorder): void
    {
        $this->recorder = $recorder;
    }

    /** Does some work in a scope. */
    public function scope(string $kind, string $name, \Closure $work): mixed
    {
        $scope = $this->recorder()->open($kind, $name);
        try {
            return $work();
        } finally {
            $this->recorder()->close($scope);
        }
    }

    /** Runs what has to fail. */
    public static function refused(\Closure $work): void
    {
        try {
            $work();
        } catch (\Throwable) {
            return;
        }
        throw new \LogicException('it does not fail');
    }

    public function finish(string $output): void
    {
        if (($why = $this->recorder()->end()) !== '') {
            throw new \RuntimeException($why);
        }
        copy(glob("$this->folder/traces/*.ndjson")[0], $output);
        array_map(unlink(...), [...glob("$this->folder/*.php"), ...glob("$this->folder/traces/*")]);
        rmdir("$this->folder/traces");
        rmdir($this->folder);
    }
}
