<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

/** A folder of a test's own. */
trait WithFolder
{
    private string $folder;

    private function makeFolder(): void
    {
        $this->folder = sys_get_temp_dir() . '/keenlantern-' . bin2hex(random_bytes(6));
        mkdir($this->folder);
    }

    private function dropFolder(): void
    {
        array_map(unlink(...), glob($this->folder . '/{,.}[!.]*', GLOB_BRACE) ?: []);
        rmdir($this->folder);
    }
}
