<?php

declare(strict_types=1);

namespace KeenLantern\Record\Illuminate;

use Illuminate\Foundation\Application;

/** The framework's application, whose container is recorded. It is in its place in bootstrap/app.php. */
class RecordedApplication extends Application
{
    use RecordsContainer;
}
