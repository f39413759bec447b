// Written by `npm run types` from docs/openapi.yaml.

export interface paths {
    "/api/v1/streams/{stream}/batches/{n}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /**
         * Send the n-th batch of a stream
         * @description The body is any number of lines of a lantern trace. Batches count from 1, and the first one starts with the
         *     stream's hello. The answer comes when the batch would survive a crash. Sending the same number again is answered
         *     the same and counts nothing twice; with other lines it is a conflict. A stream belongs to the token that began it.
         */
        put: operations["putBatch"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** List recordings, newest first */
        get: operations["getRecordings"];
        put?: never;
        /**
         * Store and analyse a whole trace
         * @description A trace of any length, of one stream or several, plain, gzip or zstd. It becomes a separate recording.
         */
        post: operations["postRecording"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** One recording with its streams */
        get: operations["getRecording"];
        put?: never;
        post?: never;
        /** Delete a recording for good */
        delete: operations["deleteRecording"];
        options?: never;
        head?: never;
        /** Name, label, pin or unpin a recording */
        patch: operations["patchRecording"];
        trace?: never;
    };
    "/api/v1/recordings/{recording}/export": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The trace as it came, one stream behind the other */
        get: operations["getExport"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/findings": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What was found in a recording, the worst first */
        get: operations["getFindings"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/triage": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** A recording's findings in groups, ordered by how many findings a fix ends */
        get: operations["getTriage"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/findings/{finding}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** One finding, with what its examples are drawn from */
        get: operations["getFinding"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/registrations": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What is registered, which one answers and why, and what each lifetime behaved as */
        get: operations["getRegistrations"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/by-hand": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The places that construct instances past the container, and what is registered for each */
        get: operations["getByHand"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/graph": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What is built from what */
        get: operations["getGraph"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/wiring": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * A part of the graph that people can read, modules and the registrations of the open ones
         * @description Without a filter, an open module or a registration, these are the modules; all registrations where there are few.
         */
        get: operations["getWiring"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/scopes": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Scopes by name, time, duration, trace or findings */
        get: operations["getScopes"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/scopes/{scope}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The story of one scope */
        get: operations["getScope"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/instances/{instance}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What is known of one instance */
        get: operations["getInstance"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/sharing": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Which instance each consumer was given, scope by scope */
        get: operations["getSharing"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/disposal": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Whether things are released */
        get: operations["getDisposal"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/keys": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What is registered, asked for and answered, by service and key */
        get: operations["getKeys"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/layers": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Decorators, who gets which, and how many calls reach each */
        get: operations["getLayers"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/costs": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What building things costs, by names of scopes */
        get: operations["getCosts"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/compare": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Two recordings, or parts of them, side by side */
        get: operations["getCompare"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/session": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Whether a token is wanted, and the kind that is signed in */
        get: operations["getSession"];
        put?: never;
        /** Sign in with a token, kept in a cookie */
        post: operations["postSession"];
        /** Sign out */
        delete: operations["deleteSession"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/tokens": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** All tokens, without their secrets */
        get: operations["getTokens"];
        put?: never;
        /** Create a token; its secret is shown only now */
        post: operations["postToken"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/tokens/{token}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        post?: never;
        /** Revoke a token */
        delete: operations["deleteToken"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/applications": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Applications whose recorders have asked recently, or for which something was ordered */
        get: operations["getApplications"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/applications/{application}/order": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What the recorders of an application shall do */
        get: operations["getOrder"];
        /** Order what the recorders of an application shall do from now on */
        put: operations["putOrder"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/applications/{application}/contract": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The contract that the service holds for an application */
        get: operations["getHeldContract"];
        /**
         * Have the service hold a contract for an application, in place of any other
         * @description Each recording of the application is then judged by it.
         */
        put: operations["putContract"];
        post?: never;
        /** Have the service hold no contract for an application any more */
        delete: operations["deleteContract"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/whatif": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * What would be different if registrations had other lifetimes or disposers
         * @description The recording is played again, which takes about as long as analysing it. The answer is kept until the recording changes.
         */
        get: operations["getWhatIf"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/proposals": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * Changes of lifetimes that would save construction time or end findings, without any new finding
         * @description A few changes are tried, each of which takes about as long as analysing the recording.
         */
        get: operations["getProposals"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/contract.schema.json": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The JSON Schema of contracts, for editors */
        get: operations["getContractSchema"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/contract": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** A recording, held against the contract of its application */
        get: operations["getContractReport"];
        put?: never;
        /** A recording, held against the contract in the request; nothing of it is kept */
        post: operations["checkContract"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/contract/draft": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** A first draft of a contract that the recording keeps */
        get: operations["getContractDraft"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/adoption": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /**
         * Accept today's findings into the application's contract, so that only new ones count
         * @description A contract is created if the service holds none; its other clauses are unchanged. The query selects findings as for the list of findings.
         */
        post: operations["adoptFindings"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/applications/{application}/recorders/{recorder}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /**
         * Say how a recorder is doing, and learn what it shall do
         * @description A recorder's long poll. It is answered with the application's order: at once where that is not the version the
         *     recorder knows, else when it changes, or unchanged after some 25 seconds; the recorder then says again how it is
         *     doing.
         */
        put: operations["putRecorder"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/analysis": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Have a recording analysed again, in the background */
        post: operations["postAnalysis"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/service/retention": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Which recordings the service deletes by itself, and whether it does */
        get: operations["getRetention"];
        /** Say that the service's clock is right, so that old recordings are deleted again */
        put: operations["putRetention"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/service/backup": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Copy the service's database as it is at one moment, while it works */
        post: operations["postBackup"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/rules": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What each rule reports, and what it does not */
        get: operations["getRules"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/service": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What the service is, keeps and does */
        get: operations["getService"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/services": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * The services that share a log, and how far each is
         * @description A service that works alone, on its data folder, lists itself.
         */
        get: operations["getServices"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/live": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * Get notified of recordings that change
         * @description Server-sent events named `recording`, each with the recording's summary as its data, at most four times a second.
         */
        get: operations["getLive"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/openapi.json": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** This document */
        get: operations["getOpenAPI"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/v1/logs": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /**
         * Send a trace as OpenTelemetry logs
         * @description OTLP/HTTP: an ExportLogsServiceRequest as protobuf or JSON, gzip if wished. A record's event name is `lantern.` and
         *     the kind, its attributes `lantern.` and a field; the resource's service.name and service.instance.id stand for
         *     application and stream. Records that are none of a trace are reported as rejected in partial_success.
         */
        post: operations["postLogs"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/metrics": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What the service says of itself, for Prometheus */
        get: operations["getMetrics"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/readyz": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * Whether all that was accepted before the start has been analysed
         * @description Where several services share a log, also whether all partitions are worked on, so that any question can be answered.
         */
        get: operations["getReady"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/program/{system}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * The program itself
         * @description For the command line and for tests (recordtest) on machines of the service's own system:
         *     curl -so keenlantern http://lantern:7460/program/$(go env GOOS)-$(go env GOARCH). No token is needed.
         */
        get: operations["getProgram"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/go/{file}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * The Go recorder's modules, as a Go module proxy serves them
         * @description For the Go command, in this service's own version: GOPROXY=http://lantern:7460/go,$(go env GOPROXY) GONOSUMDB=keenlantern.example
         *     go get keenlantern.example/record. No token is needed.
         */
        get: operations["getGoModule"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/maven/{file}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * The JVM recorder, as a Maven repository
         * @description For Maven, Gradle and the like: example.keenlantern:keenlantern-record and the adapters beside it, in this service's own
         *     version, which GET /api/v1/service returns. No token is needed.
         */
        get: operations["getMaven"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        /** Whether there is such a file */
        head: operations["headMaven"];
        patch?: never;
        trace?: never;
    };
    "/nuget/{file}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * The .NET recorder, as a NuGet source
         * @description For dotnet and the like: KeenLantern.Record and the packages beside it, in this service's own version, which
         *     GET /api/v1/service returns. The source's address is that of index.json. start.tar.gz has the assemblies that record an
         *     application which does not reference them. No token is needed.
         */
        get: operations["getNuGet"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/composer/packages.json": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * The PHP recorder, as a Composer repository
         * @description For Composer: keenlantern/record in this service's own version. The file itself is under /recorders/php. No token is needed.
         */
        get: operations["getComposer"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/recorders/{runtime}/{file}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * A recorder, as its runtime's package manager installs it
         * @description For node, keenlantern-record.tgz, for php, keenlantern-record.zip, and the same under the name of its version, which
         *     GET /api/v1/service returns.
         */
        get: operations["getRecorder"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/healthz": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Whether the service is up */
        get: operations["getHealth"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
}
export type webhooks = Record<string, never>;
export interface components {
    schemas: {
        /** @enum {string} */
        Severity: "error" | "warning" | "note";
        Problem: {
            /** Format: uri */
            type: string;
            title: string;
            status: number;
            detail: string;
        };
        Retention: {
            /** @description After a recording was last written; 0 is for good. */
            keep_for_ns: number;
            /** @description 0 is without bound. */
            keep_bytes: number;
            /** @description Nothing is deleted because the clock has leapt. */
            held: boolean;
            why: string;
        };
        OutOfTurn: components["schemas"]["Problem"] & {
            /** @description The batch to send next. */
            expected: number;
        };
        Up: {
            /** @constant */
            status: "ok";
            version: string;
        };
        Accepted: {
            recording: string;
            stream: string;
            batch: number;
            lines: number;
        };
        Figures: {
            events: number;
            scopes: number;
            instances: number;
            registrations: number;
            alive: number;
        };
        Recording: {
            id: string;
            app: string;
            version: string;
            environment: string;
            /** @enum {string} */
            source: "live" | "file";
            /** @enum {string} */
            state: "running" | "importing" | "ended" | "silent" | "cut off" | "broken";
            /** Format: date-time */
            created: string;
            /** @description RFC 3339, of the first stream; empty before its hello. */
            start: string;
            lasted_ns: number;
            streams: number;
            figures: components["schemas"]["Figures"];
            findings: {
                error: number;
                warning: number;
                note: number;
                /** @description By the contract that the service holds; not among the others. */
                accepted: number;
            };
            /** @enum {string} */
            worst: "" | "error" | "warning" | "note";
            health: {
                whole: boolean;
                lines: number;
                refused: number;
                unknown_kinds: number;
                unresolved: number;
                lost: number;
                /** @description Streams that ended without bye. */
                cut_off: number;
                /** @description Streams whose analysis broke off. Their batches are kept. */
                broken: number;
                /** @description Why the first of them did. */
                why: string;
                /** @description How often a name was met that was over the bound of a stream's names; such names are counted together or left out. */
                names_over: number;
                /** @description Scopes nested too deeply; they are taken to lie further out. */
                flattened: number;
                /** @description Searches for the keepers of an instance that were given up at their bound; a captive dependency behind one may be missing. */
                abandoned: number;
                /** @description The least share of scopes recorded in any stream. */
                sampled: number;
            };
            /** @description Streams that another version of the service, or other settings, analysed. They are being reanalysed, and shown as they were until then. */
            stale: number;
            /** @description Sums up which findings were left out because the contract that the service holds accepts them; empty for none. */
            accepted_by: string;
            /** @description The derivation key of what is shown: what has the same key was analysed in the same way. Empty while some of it is stale. */
            derived_by: string;
            name: string;
            pinned: boolean;
            labels: {
                [key: string]: string;
            };
        };
        RecordingList: {
            recordings: components["schemas"]["Recording"][];
            total: number;
        };
        Health: {
            lines: number;
            used: number;
            refused: number;
            refusals: {
                line: number;
                why: string;
            }[];
            unknown_kinds: number;
            unresolved: number;
            held: number;
            /** @description Lines from where the analysis broke off. */
            unread: number;
            names_over: number;
            flattened: number;
            abandoned: number;
            lost: number;
            cut_off: boolean;
            sampled: number;
            /** @description Rules whose evidence the recorder cannot see. */
            silent: string[];
        };
        Stream: {
            app: string;
            stream: string;
            environment: string;
            version?: string;
            language?: string;
            host?: string;
            recorder?: string;
            labels?: {
                [key: string]: string;
            };
            start: string;
            ended: boolean;
            lasted_ns: number;
            figures: components["schemas"]["Figures"];
            health: components["schemas"]["Health"];
            /** @description Why the analysis ended before the stream did; absent while it goes on. Nothing is said of what was found. */
            broken?: {
                /** @description At which line; 0 where that is not known. */
                line: number;
                why: string;
            };
        };
        RecordingDetail: components["schemas"]["Recording"] & {
            stream_list: components["schemas"]["Stream"][];
        };
        Ref: {
            service: string;
            key: string | null;
            implementation: string | null;
            at: string | null;
            lifetime?: string;
            module?: string;
        };
        Example: {
            stream?: string;
            scope: number | null;
            scope_name?: string;
            instances: number[];
            line: number;
            /** @description In ns since the stream's start. */
            t: number;
            evidence?: components["schemas"]["Evidence"];
        };
        /** @description What one example is drawn from; times are ns since the stream's start. */
        Evidence: {
            from: number;
            to: number;
            scopes: {
                scope: number;
                in: number | null;
                name: string;
                kind: string;
                opened: number;
                closed: number | null;
            }[];
            lives: {
                instance: number;
                mark: string;
                /** @enum {string} */
                role: "holder" | "path" | "kept" | "subject";
                of: components["schemas"]["Ref"];
                home: number | null;
                made: number;
                ended: number | null;
                /** @enum {string} */
                end: "alive" | "disposed" | "forgotten" | "home closed";
            }[];
            keeps: {
                holder: number;
                kept: number;
                at: number;
            }[];
            uses: {
                instance: number;
                /** @enum {string} */
                kind: "use" | "give";
                by?: string;
                scope: number | null;
                at: number;
                after: boolean;
            }[];
            /** @description Events on these lives that were left out. */
            more: number;
        };
        Finding: {
            id: string;
            rule: string;
            severity: components["schemas"]["Severity"];
            /** @enum {string} */
            basis: "observed" | "declared";
            title: string;
            subject: components["schemas"]["Ref"];
            holder: components["schemas"]["Ref"] | null;
            path: components["schemas"]["Ref"][];
            counts: {
                [key: string]: number;
            };
            facts?: {
                [key: string]: string[];
            };
            /** Format: date-time */
            first: string;
            /** Format: date-time */
            last: string;
            examples: components["schemas"]["Example"][];
            why: string;
            fix: string;
            because: string | null;
            caveat: string | null;
        };
        Findings: {
            recording: string;
            /** @description Findings that the query lets through, of which a page is listed. */
            total: number;
            /** @description Findings that the contract accepts, of which a page is listed. */
            accepted_total: number;
            /** @constant */
            format: "lantern-findings/1";
            streams: components["schemas"]["Stream"][];
            findings: components["schemas"]["Finding"][];
            /** @description Findings that the contract accepts, which the service holds for the application. They are not among the others. */
            accepted?: {
                finding: components["schemas"]["Finding"];
                reason: string;
            }[];
        };
        Adopted: {
            application: string;
            /** @description Newly accepted findings. */
            accepted: number;
            /** @description Findings that were accepted before, which keep their reason and day. */
            before: number;
            /** Format: date */
            until: string;
        };
        /** @enum {unknown} */
        Grouping: "cause" | "registration" | "place" | "rule" | "scope";
        FindingGroup: {
            /** @description Names the group in a query: the same for the same group of any recording. */
            key: string;
            title: string;
            severity: components["schemas"]["Severity"];
            rules: string[];
            of: components["schemas"]["Ref"] | null;
            findings: number;
            errors: number;
            warnings: number;
            notes: number;
            /** @description Of all findings, those that follow from others of the group. */
            follow: number;
            /** @description Registrations and entry points that keep or ask for it, each once. */
            holders: number;
            /** @description A few of the names of scopes in which they were seen. */
            requests: string[];
            /** @description How many such names there are. */
            scopes: number;
            /** @description Occurrences. */
            seen: number;
            /** Format: date-time */
            last: string;
            lead: components["schemas"]["Finding"];
        };
        FindingGroups: {
            recording: string;
            by: components["schemas"]["Grouping"];
            groups: components["schemas"]["FindingGroup"][];
            /** @description Groups that the query lets through. */
            total: number;
            /** @description Those of them that have an error. */
            wrong: number;
            /** @description The findings in them. */
            findings: number;
            /** @description Of all findings, whatever the query. */
            families: {
                name: string;
                findings: number;
            }[];
            tally: {
                error: number;
                warning: number;
                note: number;
                accepted: number;
            };
        };
        MapModule: {
            /** @description Below 0. */
            id: number;
            name: string;
            registrations: number;
            lifetimes: {
                [key: string]: number;
            };
            /** @description Between its own registrations. */
            lines: number;
            /** @description Those of them from longer- to shorter-lived. */
            wrong: number;
        };
        WiringMap: {
            recording: string;
            modules: components["schemas"]["MapModule"][];
            nodes: components["schemas"]["GraphNode"][];
            edges: components["schemas"]["GraphEdge"][];
            /** @description Registrations that the filter lets through. */
            total: number;
            /** @description Registrations that belong to what was asked for, beyond the limit. */
            left_out: number;
        };
        FindingDetail: components["schemas"]["Finding"] & {
            recording: string;
        };
        AliveRow: {
            id: number;
            of: components["schemas"]["Ref"];
            /** @description Alive at the end of each step. */
            series: number[];
            /** @description The most that were alive at once in each step. */
            peaks: number[];
            alive: number;
            most: number;
            made: number;
            slope_per_thousand: number | null;
            bytes: number;
        };
        Asked: {
            service: string;
            key: string | null;
        };
        AnswerChange: {
            consumer: string;
            site: string;
            service: string;
            a: string[];
            b: string[];
        };
        Asker: {
            /** @description For all of a service: a list. */
            all: boolean;
            consumer: components["schemas"]["Ref"] | null;
            entry?: string;
            how: string;
            site?: string;
            count: number;
        };
        Board: {
            held: components["schemas"]["HeldBy"][];
            recording: string;
            stream: number;
            name: string;
            last: number;
            depth: number;
            scopes: components["schemas"]["ScopeRow"][];
            rows: components["schemas"]["BoardRow"][];
            total: number;
        };
        BoardCell: {
            /** @description Not handed out here: what was received keeps it from an earlier scope. */
            kept: boolean;
            /** @description An empty list was given. */
            empty: boolean;
            instances: number[];
            marks: string[];
            same: boolean;
            change: string;
            shared: boolean;
        };
        BoardRow: {
            /** @description A list: a cell shows its members in order. */
            all: boolean;
            of: components["schemas"]["Ref"];
            path: string[];
            site: string;
            depth: number;
            observed: components["schemas"]["Verdict"];
            cells: components["schemas"]["BoardCell"][];
        };
        Built: {
            with: components["schemas"]["Thing"][];
            for: components["schemas"]["Thing"] | null;
            entry?: string;
            instance: number;
            mark: string;
            reg: number;
            of: components["schemas"]["Ref"];
            from: number;
            took_ns: number;
            own_ns: number;
            depth: number;
            outer: number;
            /** @description It is on the path that took longest. */
            longest: boolean;
            /** @description Constructions that it represents. */
            times: number;
            /** @description What these took. */
            all_ns: number;
        };
        ByHandRow: {
            implementation: string;
            at: string;
            count: number;
            disposed: number;
            registered: components["schemas"]["Ref"] | null;
            given_to: components["schemas"]["Asker"][];
        };
        ByHandView: {
            recording: string;
            places: components["schemas"]["ByHandRow"][];
            total: number;
        };
        ChangedField: {
            name: string;
            a: string;
            b: string;
        };
        Closing: {
            /** @description The number of its stream in the recording. */
            stream: number;
            /** @description Steps, of which the first 100 are listed. */
            total: number;
            scope: number;
            name: string;
            kind: string;
            from: number;
            took_ns: number;
            steps: components["schemas"]["ClosingStep"][];
        };
        ClosingStep: {
            instance: number;
            mark: string;
            reg: number;
            of: components["schemas"]["Ref"];
            at: number;
            ns: number;
            state: string;
            by: string;
        };
        Comparison: {
            answers: components["schemas"]["AnswerChange"][];
            a: components["schemas"]["Side"];
            b: components["schemas"]["Side"];
            new: components["schemas"]["Finding"][];
            gone: components["schemas"]["Finding"][];
            still: components["schemas"]["Finding"][];
            registrations: components["schemas"]["RegChange"][];
            verdicts: components["schemas"]["VerdictChange"][];
            costs: components["schemas"]["CostChange"][];
            /** @description How many there are of each part. */
            totals: {
                new: number;
                gone: number;
                still: number;
                registrations: number;
                verdicts: number;
                answers: number;
                costs: number;
            };
        };
        Creation: {
            instance: number;
            mark: string;
            /** @enum {unknown} */
            when: "at start" | "on demand";
            clock: string;
            stream: number;
            scope: number;
            scope_name: string;
            by: components["schemas"]["Asker"] | null;
        };
        HeldBy: {
            of: components["schemas"]["Ref"];
            instance: number;
            mark: string;
            by: string[];
            scopes: number;
        };
        Refusal: {
            path: components["schemas"]["Ref"][];
        };
        CostChange: {
            name: string;
            of: components["schemas"]["Ref"];
            figure: string;
            a: number;
            b: number;
            margin: number;
            sure: string;
        };
        CostName: {
            name: string;
            kind: string;
            scopes: number;
            mean_ns: number;
            built_mean_ns: number;
            built_percent: number;
            /** @description Of each of several names the first 8; of one name a page. */
            rows: components["schemas"]["CostRow"][];
            rows_total: number;
        };
        CostRow: {
            id: number;
            of: components["schemas"]["Ref"];
            made: number;
            per_scope: number;
            scopes: number;
            own_ns: number;
            took_ns: number;
            own_mean_ns: number;
            max_ns: number;
            percent: number;
            saves_ns: number;
            bytes_per_scope: number;
        };
        CostsView: {
            recording: string;
            names: components["schemas"]["CostName"][];
            total: number;
            unused: components["schemas"]["UnusedRow"][];
        };
        DisposalSeen: {
            disposals: boolean;
        };
        DisposalView: {
            recording: string;
            width_ns: number;
            opened: number[];
            closed: number[];
            alive: components["schemas"]["AliveRow"][];
            total: number;
            open: components["schemas"]["ScopeRow"][];
            open_count: number;
            closings: components["schemas"]["Closing"][];
            shutdown: components["schemas"]["Closing"] | null;
            undone: components["schemas"]["UndoneRow"][];
            seen: components["schemas"]["DisposalSeen"];
        };
        DisposedRow: {
            instance: number;
            mark: string;
            reg: number;
            of: components["schemas"]["Ref"];
            at: number;
            ns: number;
            state: string;
            by: string;
        };
        Graph: {
            recording: string;
            nodes: components["schemas"]["GraphNode"][];
            edges: components["schemas"]["GraphEdge"][];
        };
        GraphEdge: {
            from: number;
            to: number;
            how: string;
            count: number;
            wraps: boolean;
            long_to_shorter: boolean;
            /** @description Between registrations that it represents. */
            lines: number;
            /** @description Those of them from longer- to shorter-lived. */
            wrong: number;
        };
        GraphNode: {
            id: number;
            registration: components["schemas"]["Ref"];
            /** @description As declared, else the package of its name, else the folder of its place. */
            module: string;
            internal: boolean;
            made: number;
        };
        InstanceView: {
            recording: string;
            stream: number;
            instance: number;
            mark: string;
            reg: number;
            of: components["schemas"]["Ref"];
            /** @description When it was built (RFC 3339). */
            at: string;
            took_ns: number;
            by: string;
            /** @description In which it was built; 0 is the root. */
            scope: number;
            /** @description 0: the trace's line could not be found again. */
            line: number;
            /** @description It lives in a root and has not ended; null where too many do for this to be known. */
            alive: boolean | null;
            with: components["schemas"]["Thing"][];
        };
        KeyAnswer: {
            id: number;
            of: components["schemas"]["Ref"];
            count: number;
            other: boolean;
        };
        KeyRow: {
            service: string;
            key: string | null;
            registered: components["schemas"]["Registered"][];
            asked: number;
            /** @description The first 50. */
            asked_by: components["schemas"]["Asker"][];
            askers: number;
            answers: components["schemas"]["KeyAnswer"][];
            missing: number;
            why: string;
            state: string;
        };
        KeysView: {
            recording: string;
            keys: components["schemas"]["KeyRow"][];
            total: number;
        };
        LayerRow: {
            id: number;
            of: components["schemas"]["Ref"];
            made: number;
            calls: number;
        };
        HeldContract: {
            application: string;
            /** @description YAML, as it was put; see docs/contract.md. */
            text: string;
            /** Format: date-time */
            put: string;
        };
        ContractReport: {
            /** @constant */
            format: "lantern-contract-report/1";
            /** @description The name of its file. */
            contract: string;
            application: string;
            recording: string;
            kept: number;
            broken: number;
            not_seen: number;
            /** @description Broken ones first, then those not seen. */
            clauses: components["schemas"]["Judgement"][];
            accepted: components["schemas"]["Acceptance"][];
            /** @description What of the recording is not whole. */
            caveats: string[];
        };
        Judgement: {
            /** @description The same for the same clause in any run. */
            id: string;
            /** @enum {string} */
            kind: "scopes" | "wiring" | "lifetimes" | "disposal" | "limits" | "never";
            /** @description The clause in words. */
            says: string;
            /** @description In the contract's file. */
            line: number;
            /** @enum {string} */
            status: "kept" | "broken" | "not seen";
            why: string;
            /** @description What a broken one was broken by. */
            finding: components["schemas"]["Finding"] | null;
        };
        Acceptance: {
            finding: string;
            reason: string;
            /**
             * Format: date
             * @description The last day on which it is accepted.
             */
            until: string;
            line: number;
            /** @enum {string} */
            status: "accepted" | "expired" | "gone";
            /** @description Of the finding; empty where nothing of that id was found. */
            title: string;
        };
        NowThen: {
            /** @description As it was recorded. */
            now: number;
            /** @description As it would be. */
            then: number;
        };
        Changed: {
            /** @description The change */
            set: string;
            of: components["schemas"]["Ref"];
            from: string;
            to: string;
        };
        WhatIf: {
            bytes: components["schemas"]["NowThen"];
            /** @description What a container that validates lifetimes would refuse to build then. */
            refused: components["schemas"]["Refusal"][];
            /** @constant */
            format: "lantern-whatif/1";
            recording: string;
            changes: components["schemas"]["Changed"][];
            instances: components["schemas"]["NowThen"];
            construction_ns: components["schemas"]["NowThen"];
            /** @description Those whose figures change, the changed ones first. */
            registrations: components["schemas"]["WhatIfRegistration"][];
            /** @description By name, those whose construction changes, the largest difference first. */
            scopes: components["schemas"]["WhatIfScopes"][];
            /** @description Findings that there would be. */
            appear: components["schemas"]["Finding"][];
            /** @description Findings that there would not be any more. */
            go: components["schemas"]["Finding"][];
            /** @description What the recording does not show, in sentences. */
            unknown: string[];
        };
        WhatIfRegistration: {
            bytes: components["schemas"]["NowThen"];
            of: components["schemas"]["Ref"];
            changed: boolean;
            made: components["schemas"]["NowThen"];
            most: components["schemas"]["NowThen"];
            construction_ns: components["schemas"]["NowThen"];
        };
        WhatIfScopes: {
            name: string;
            kind: string;
            scopes: number;
            total_ns: components["schemas"]["NowThen"];
            median_ns: components["schemas"]["NowThen"];
            p95_ns: components["schemas"]["NowThen"];
            /** @description Of the scopes' recorded time that is saved; less than 0 where it is added. */
            share: number;
        };
        Proposals: {
            /** @constant */
            format: "lantern-proposals/1";
            recording: string;
            /** @description The best first. */
            proposals: components["schemas"]["Proposal"][];
            tried: number;
        };
        Proposal: {
            /** @description Together; more than one where layers change with what they wrap. */
            changes: components["schemas"]["Changed"][];
            instances: components["schemas"]["NowThen"];
            construction_ns: components["schemas"]["NowThen"];
            go: components["schemas"]["Finding"][];
            /** @description Instances would live longer, and be shared: their code has to bear that. */
            longer: boolean;
        };
        LayersView: {
            /** @description Calls were recorded; otherwise their counts mean nothing. */
            use_seen: boolean;
            recording: string;
            stacks: components["schemas"]["StackRow"][];
            total: number;
        };
        Named: {
            name: string;
            kind: string;
            scopes: number;
            mean_ns: number;
        };
        Need: {
            site: string;
            service: string;
            key: string | null;
            how: string;
            all: boolean;
            optional: boolean;
            lazy: boolean;
        };
        Outside: {
            /** @description What it has kept since it was built. */
            with: components["schemas"]["Thing"][];
            instance: number;
            mark: string;
            reg: number;
            of: components["schemas"]["Ref"];
            at: number;
            uses: number;
        };
        RegChange: {
            change: string;
            of: components["schemas"]["Ref"];
            fields: components["schemas"]["ChangedField"][];
        };
        Registered: {
            id: number;
            of: components["schemas"]["Ref"];
            answers: boolean;
        };
        RegistrationList: {
            recording: string;
            registrations: components["schemas"]["RegistrationRow"][];
            total: number;
        };
        RegistrationRow: {
            template: ("any-key" | "any-type")[];
            /** @description How many there are, of whom asked_by lists 50. */
            askers: number;
            form_of: components["schemas"]["Ref"] | null;
            forms: components["schemas"]["Ref"][];
            pooled: boolean;
            mechanism?: string;
            signature?: string;
            first: components["schemas"]["Creation"] | null;
            last: components["schemas"]["Creation"] | null;
            id: number;
            registration: components["schemas"]["Ref"];
            declared?: string;
            container?: string;
            internal: boolean;
            local: boolean;
            observed: components["schemas"]["Verdict"];
            made: number;
            alive: number;
            used: number;
            disposed: number;
            took_ns: number;
            own_ns: number;
            max_ns: number;
            asked_by: components["schemas"]["Asker"][];
            asked: number;
            answers: boolean;
            why: string;
            lost_to: components["schemas"]["Ref"] | null;
            wraps: components["schemas"]["Ref"] | null;
            wrapped_by: components["schemas"]["Ref"][];
            alias: components["schemas"]["Ref"] | null;
            also: components["schemas"]["Asked"][];
            needs: components["schemas"]["Need"][];
        };
        RuleDoc: {
            id: string;
            severity: components["schemas"]["Severity"];
            basis: string;
            reports: string;
            not: string;
            needs: string[];
        };
        RuleList: {
            rules: components["schemas"]["RuleDoc"][];
        };
        ServiceInfo: {
            version: string;
            tokens: boolean;
            recordings: number;
            stored_bytes: number;
            streams: number;
            /** @description 0: for good. */
            keep_for_ns: number;
            /** @description 0: without bound. */
            keep_bytes: number;
            /** @description The derivation key of what this service derives: of the trace format, the rules and their conditions, the settings, and the shapes of what is stored. */
            derivation: string;
            /** @description Streams that another key was derived with and that are being reanalysed. */
            stale: number;
            /** @description Streams for which that has been done since the start. */
            refreshed: number;
            /** @description By runtime, the address at which this service hands out its recorder. */
            recorders: {
                [key: string]: string;
            };
        };
        ServiceList: {
            /** @description false: the service works alone, on its data folder. */
            shared: boolean;
            /** @description The log's name. */
            log?: string;
            /** @description That streams are divided into. */
            partitions: number;
            /** @description Partitions on which no service works. */
            free: number;
            /** @description Partitions whose services are still reading what they found there. */
            reading: number;
            services: components["schemas"]["ServiceState"][];
        };
        ServiceState: {
            id?: string;
            /** @description Its configured address. */
            address?: string;
            version: string;
            /** @description The derivation key of what it derives. */
            derivation: string;
            /** @description It is the one that was asked. */
            this: boolean;
            /** @description That it works on. */
            partitions: number[];
            /** @description Batches of its partitions that are stored and not analysed. */
            lag_batches: number;
            /** @description For how long the first of them has been stored. */
            lag_ns: number;
            /** @description Partitions that it has taken since it began. */
            taken_over: number;
            /** Format: date-time */
            started?: string;
            /** @description Recordings of which it has a stream in memory. */
            streams: number;
        };
        ScopeList: {
            roots: components["schemas"]["ScopeRow"][];
            recording: string;
            scopes: components["schemas"]["ScopeRow"][];
            more: boolean;
            total: number;
            names: components["schemas"]["Named"][];
        };
        ScopeRow: {
            root: boolean;
            stream: number;
            began: string;
            took_ns: number;
            id: number;
            name: string;
            kind: string;
            trace: string;
            in: number;
            opened: number;
            closed: number;
            open: boolean;
            line: number;
            last_line: number;
            made: number;
            uses: number;
            built_ns: number;
            findings: number;
        };
        SeenStack: {
            layers: components["schemas"]["Ref"][];
            /** @description The first 50. */
            who: components["schemas"]["Asker"][];
            askers: number;
            count: number;
            whole: boolean;
        };
        Side: {
            recording: string;
            part: string;
            app: string;
            version: string;
            scopes: number;
            findings: number;
        };
        StackRow: {
            service: string;
            key: string | null;
            declared: boolean;
            layers: components["schemas"]["LayerRow"][];
            seen: components["schemas"]["SeenStack"][];
        };
        Story: {
            /** @description Built, on all pages. */
            total: number;
            recording: string;
            scope: components["schemas"]["ScopeRow"];
            built: components["schemas"]["Built"][];
            outside: components["schemas"]["Outside"][];
            used: components["schemas"]["UseRow"][];
            disposed: components["schemas"]["DisposedRow"][];
            left: components["schemas"]["Thing"][];
            inner: number[];
            cut: string;
        };
        Thing: {
            instance: number;
            mark: string;
            reg: number;
            of: components["schemas"]["Ref"];
        };
        UndoneRow: {
            id: number;
            of: components["schemas"]["Ref"];
            disposer: string;
            ended: number;
            alive: number;
        };
        UnusedRow: {
            finding: string;
            of: components["schemas"]["Ref"];
            consumer: components["schemas"]["Ref"] | null;
            count: number;
        };
        UseRow: {
            instance: number;
            mark: string;
            reg: number;
            of: components["schemas"]["Ref"];
            by: components["schemas"]["Thing"] | null;
            count: number;
            first: number;
            last: number;
            took_ns: number;
            after: boolean;
        };
        Verdict: {
            as: string;
            agrees: boolean | null;
            why: string;
        };
        VerdictChange: {
            of: components["schemas"]["Ref"];
            a: components["schemas"]["Verdict"];
            b: components["schemas"]["Verdict"];
        };
        Order: {
            /** @description It grows with each order; 0 where there was none. */
            version: number;
            on: boolean;
            share: number;
            for_ns: number;
            bytes: number;
        };
        Recorder: {
            id: string;
            version: string;
            environment: string;
            stream: string;
            on: boolean;
            share: number;
            events: number;
            lost: number;
            asked: string;
            knows: number;
        };
        Application: {
            name: string;
            order: components["schemas"]["Order"];
            recorders: components["schemas"]["Recorder"][];
        };
        ApplicationList: {
            applications: components["schemas"]["Application"][];
        };
        Session: {
            required: boolean;
            kind: string;
        };
        Token: {
            id: string;
            name: string;
            /** @enum {unknown} */
            kind: "record" | "read" | "manage";
            created: string;
        };
        NewToken: {
            id: string;
            name: string;
            /** @enum {unknown} */
            kind: "record" | "read" | "manage";
            created: string;
            secret: string;
        };
    };
    responses: {
        /** @description What was wrong and what to do. */
        Problem: {
            headers: {
                [name: string]: unknown;
            };
            content: {
                "application/problem+json": components["schemas"]["Problem"];
            };
        };
        /** @description A batch before this one is missing. */
        OutOfTurn: {
            headers: {
                [name: string]: unknown;
            };
            content: {
                "application/problem+json": components["schemas"]["OutOfTurn"];
            };
        };
        /** @description Too much at once; try again after the seconds that Retry-After names. */
        Busy: {
            headers: {
                "Retry-After"?: number;
                [name: string]: unknown;
            };
            content: {
                "application/problem+json": components["schemas"]["Problem"];
            };
        };
    };
    parameters: {
        /** @description An id, the beginning of one, or latest. */
        Recording: string;
    };
    requestBodies: never;
    headers: never;
    pathItems: never;
}
export type $defs = Record<string, never>;
export interface operations {
    putBatch: {
        parameters: {
            query?: never;
            header?: {
                "Content-Encoding"?: "identity" | "gzip" | "zstd";
            };
            path: {
                /** @description The stream text of its hello. */
                stream: string;
                n: number;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/x-ndjson": string;
            };
        };
        responses: {
            /** @description It is stored. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Accepted"];
                };
            };
            400: components["responses"]["Problem"];
            409: components["responses"]["OutOfTurn"];
            413: components["responses"]["Problem"];
            422: components["responses"]["Problem"];
            429: components["responses"]["Busy"];
            503: components["responses"]["Busy"];
            507: components["responses"]["Problem"];
        };
    };
    getRecordings: {
        parameters: {
            query?: {
                limit?: number;
                offset?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description A page of them. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RecordingList"];
                };
            };
            400: components["responses"]["Problem"];
        };
    };
    postRecording: {
        parameters: {
            query?: never;
            header?: {
                "Content-Encoding"?: "identity" | "gzip" | "zstd";
            };
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/x-ndjson": string;
            };
        };
        responses: {
            /** @description It is stored and analysed. */
            201: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Recording"];
                };
            };
            400: components["responses"]["Problem"];
            410: components["responses"]["Problem"];
            413: components["responses"]["Problem"];
            422: components["responses"]["Problem"];
            429: components["responses"]["Busy"];
        };
    };
    getRecording: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The recording. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RecordingDetail"];
                };
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    deleteRecording: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description It is gone. */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    patchRecording: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": {
                    name?: string;
                    /** @description Housekeeping leaves pinned recordings alone. */
                    pinned?: boolean;
                    /** @description All of them; they replace those there are. */
                    labels?: {
                        [key: string]: string;
                    };
                };
            };
        };
        responses: {
            /** @description The recording as it now is. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Recording"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
            422: components["responses"]["Problem"];
        };
    };
    getExport: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description Lines. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/x-ndjson": string;
                };
            };
            404: components["responses"]["Problem"];
        };
    };
    getFindings: {
        parameters: {
            query?: {
                /** @description The least grave to list. */
                severity?: components["schemas"]["Severity"];
                /** @description The first part of the rules' ids. */
                family?: string;
                /** @description A rule's id. */
                rule?: string;
                /** @description A part of the name of a service, key or implementation that the finding names. */
                service?: string;
                /** @description A recording: only findings that it does not have. */
                since?: string;
                /** @description With group: what its findings have in common. */
                by?: components["schemas"]["Grouping"];
                /** @description The key of a group */
                group?: string;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The findings. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Findings"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getTriage: {
        parameters: {
            query?: {
                /** @description What the findings of a group have in common. */
                by?: components["schemas"]["Grouping"];
                /** @description The least grave to list. */
                severity?: components["schemas"]["Severity"];
                /** @description The first part of the rules' ids. */
                family?: string;
                /** @description A rule's id. */
                rule?: string;
                /** @description A part of the name of a service, key or implementation that the finding names. */
                service?: string;
                /** @description A recording: only findings that it does not have. */
                since?: string;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The groups. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["FindingGroups"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getFinding: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
                /** @description Its id or a prefix of it. */
                finding: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The finding. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["FindingDetail"];
                };
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getRegistrations: {
        parameters: {
            query?: {
                /** @description A part of a service's, key's or implementation's name. */
                service?: string;
                lifetime?: string;
                /** @description - is what no module is known of. */
                module?: string;
                /** @description When the first instance was made. */
                when?: "at start" | "on demand";
                /** @description How a need is filled, such as constructor or property; or a part of the chosen constructor's signature. */
                how?: string;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RegistrationList"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getByHand: {
        parameters: {
            query?: {
                /** @description A part of an implementation's, service's or place's name. */
                service?: string;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ByHandView"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getGraph: {
        parameters: {
            query?: {
                /** @description A part of a service's, key's or implementation's name. */
                service?: string;
                lifetime?: string;
                /** @description - is what no module is known of. */
                module?: string;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Graph"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getWiring: {
        parameters: {
            query?: {
                /** @description This module's registrations, and the modules next to them. */
                open?: string;
                /** @description The number of a registration: this one and its neighbours. */
                near?: number;
                /** @description A part of a service's, key's or implementation's name: those registrations and their neighbours. */
                service?: string;
                lifetime?: string;
                /** @description - is what no module is known of. */
                module?: string;
                /** @description The most nodes. */
                limit?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["WiringMap"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getScopes: {
        parameters: {
            query?: {
                /** @description Exactly this name. */
                name?: string;
                /** @description A part of the name. */
                part?: string;
                /** @description Such as request. */
                kind?: string;
                /** @description Exactly this trace id. */
                trace?: string;
                /** @description Opened so long after the stream's start, or later. */
                since_ns?: number;
                /** @description Opened before. */
                until_ns?: number;
                /** @description Open for so long, or longer. */
                at_least_ns?: number;
                /** @description Only those that a finding names. */
                findings?: boolean;
                order?: "latest" | "longest";
                /** @description One stream only, counted from 0. */
                stream?: number;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ScopeList"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getScope: {
        parameters: {
            query?: {
                /** @description The stream, counted from 0. */
                stream?: number;
                /** @description Of what was built: a part of a service's, key's or implementation's name. */
                service?: string;
                /** @description Constructions of one registration in the same place are one row, where there are more than 60. */
                once?: boolean;
                /** @description Of what was built. */
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
                /** @description Its number, or root for the first container's root; behind its stream's and a dot where there are several streams. */
                scope: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Story"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getInstance: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
                /** @description Its number; behind its stream's and a dot where there are several streams. */
                instance: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["InstanceView"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getSharing: {
        parameters: {
            query?: {
                /** @description Scopes of this name; the commonest unless given. */
                name?: string;
                /** @description How many of them, the latest. */
                last?: number;
                /** @description Or these: numbers with commas between. */
                scopes?: string;
                /** @description A part of the name of who was given it. */
                consumer?: string;
                /** @description Steps from the entry point that are unfolded. */
                depth?: number;
                /** @description Which stream, counted from 0. */
                stream?: number;
                /** @description A part of a service's, key's or implementation's name. */
                service?: string;
                lifetime?: string;
                /** @description - is what no module is known of. */
                module?: string;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Board"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getDisposal: {
        parameters: {
            query?: {
                /** @description A part of the names of scopes whose closings are shown. */
                name?: string;
                /** @description A part of a service's, key's or implementation's name. */
                service?: string;
                lifetime?: string;
                /** @description - is what no module is known of. */
                module?: string;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["DisposalView"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getKeys: {
        parameters: {
            query?: {
                /** @description Also services without a key and with one registration. */
                all?: boolean;
                /** @description A part of a service's, key's or implementation's name. */
                service?: string;
                lifetime?: string;
                /** @description - is what no module is known of. */
                module?: string;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["KeysView"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getLayers: {
        parameters: {
            query?: {
                /** @description A part of a service's, key's or implementation's name. */
                service?: string;
                lifetime?: string;
                /** @description - is what no module is known of. */
                module?: string;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["LayersView"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getCosts: {
        parameters: {
            query?: {
                /** @description Of each name's registrations: by own time, by what one shared instance would save, or by instances for each scope. */
                order?: "own" | "saves" | "made";
                /** @description A part of the names of scopes. */
                name?: string;
                /** @description A part of a service's, key's or implementation's name. */
                service?: string;
                lifetime?: string;
                /** @description - is what no module is known of. */
                module?: string;
                limit?: number;
                offset?: number;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["CostsView"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getCompare: {
        parameters: {
            query: {
                /** @description A recording; a part of one as in latest@first-half, latest@second-half or latest@version=1.2. */
                a: string;
                /** @description The same. */
                b: string;
                /** @description The most of each part, those first that matter most. */
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Comparison"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    getSession: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The session. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Session"];
                };
            };
        };
    };
    postSession: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": {
                    token: string;
                };
            };
        };
        responses: {
            /** @description Signed in. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Session"];
                };
            };
            400: components["responses"]["Problem"];
            401: components["responses"]["Problem"];
            403: components["responses"]["Problem"];
        };
    };
    deleteSession: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description Signed out. */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
        };
    };
    getTokens: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description All of them. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": {
                        tokens: components["schemas"]["Token"][];
                    };
                };
            };
        };
    };
    postToken: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": {
                    /** @enum {unknown} */
                    kind: "record" | "read" | "manage";
                    name?: string;
                };
            };
        };
        responses: {
            /** @description The token. */
            201: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["NewToken"];
                };
            };
            400: components["responses"]["Problem"];
        };
    };
    deleteToken: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description Its id. */
                token: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description It is revoked. */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            404: components["responses"]["Problem"];
        };
    };
    getApplications: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description All of them. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ApplicationList"];
                };
            };
        };
    };
    getOrder: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                application: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The order; its version is 0 where none was given. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Order"];
                };
            };
        };
    };
    putOrder: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                application: string;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": {
                    on: boolean;
                    /** @description The part of the scopes; 0 is all. */
                    share?: number;
                    /** @description How long; 0 is without end. */
                    for_ns?: number;
                    /** @description After how many bytes each recorder stops; 0 is never. */
                    bytes?: number;
                    version?: number;
                };
            };
        };
        responses: {
            /** @description The application. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Application"];
                };
            };
            400: components["responses"]["Problem"];
        };
    };
    getHeldContract: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                application: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The contract. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["HeldContract"];
                };
            };
            404: components["responses"]["Problem"];
        };
    };
    putContract: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                application: string;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/yaml": string;
            };
        };
        responses: {
            /** @description The contract. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["HeldContract"];
                };
            };
            400: components["responses"]["Problem"];
            413: components["responses"]["Problem"];
            422: components["responses"]["Problem"];
        };
    };
    deleteContract: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                application: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description It is deleted. */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            404: components["responses"]["Problem"];
        };
    };
    getWhatIf: {
        parameters: {
            query: {
                /** @description A change, such as "BerthLedger=singleton", "TideSource[gauge]=scoped" or "BerthLedger.disposer=code"; may be given several times. */
                set: string[];
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["WhatIf"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getProposals: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The answer. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Proposals"];
                };
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getContractSchema: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The schema. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/schema+json": Record<string, never>;
                };
            };
        };
    };
    getContractReport: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description What became of each clause. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ContractReport"];
                };
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
            422: components["responses"]["Problem"];
        };
    };
    checkContract: {
        parameters: {
            query?: {
                /** @description What the contract is called in the answer. */
                name?: string;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/yaml": string;
            };
        };
        responses: {
            /** @description What became of each clause. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ContractReport"];
                };
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
            413: components["responses"]["Problem"];
            422: components["responses"]["Problem"];
        };
    };
    getContractDraft: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description YAML */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/yaml": string;
                };
            };
            404: components["responses"]["Problem"];
        };
    };
    adoptFindings: {
        parameters: {
            query?: {
                /** @description The least grave to accept. */
                severity?: components["schemas"]["Severity"];
                /** @description The first part of the rules' ids. */
                family?: string;
                /** @description A rule's id. */
                rule?: string;
                /** @description A part of the name of a service, key or implementation that the finding names. */
                service?: string;
                /** @description A recording: only findings that it does not have. */
                since?: string;
                /** @description With group: what its findings have in common. */
                by?: components["schemas"]["Grouping"];
                /** @description The key of a group. */
                group?: string;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": {
                    reason: string;
                    /**
                     * Format: date
                     * @description The last day on which they are accepted.
                     */
                    until: string;
                };
            };
        };
        responses: {
            /** @description What was accepted. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Adopted"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
        };
    };
    putRecorder: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                application: string;
                /** @description An id of the recorder's own, the same as long as it runs. */
                recorder: string;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": {
                    /** @description The application's. */
                    version?: string;
                    environment?: string;
                    /** @description Empty while it does not record. */
                    stream?: string;
                    on?: boolean;
                    share?: number;
                    events?: number;
                    lost?: number;
                    /** @description The version of the order it follows. */
                    knows?: number;
                };
            };
        };
        responses: {
            /** @description The order. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Order"];
                };
            };
            400: components["responses"]["Problem"];
            429: components["responses"]["Busy"];
            503: components["responses"]["Busy"];
        };
    };
    postAnalysis: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description It will be. */
            202: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": {
                        streams: number;
                    };
                };
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getRetention: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description What it deletes. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Retention"];
                };
            };
        };
    };
    putRetention: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": {
                    /** @constant */
                    held: false;
                };
            };
        };
        responses: {
            /** @description What it deletes. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Retention"];
                };
            };
            400: components["responses"]["Problem"];
        };
    };
    postBackup: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description An SQLite database. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/vnd.sqlite3": string;
                };
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getRules: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description All rules. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RuleList"];
                };
            };
        };
    };
    getService: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The service. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ServiceInfo"];
                };
            };
        };
    };
    getServices: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The services. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ServiceList"];
                };
            };
        };
    };
    getLive: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The events. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/event-stream": string;
                };
            };
        };
    };
    getOpenAPI: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The document. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": Record<string, never>;
                };
            };
        };
    };
    postLogs: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/x-protobuf": string;
                "application/json": Record<string, never>;
            };
        };
        responses: {
            /** @description An ExportLogsServiceResponse. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/x-protobuf": string;
                    "application/json": Record<string, never>;
                };
            };
            400: components["responses"]["Problem"];
            413: components["responses"]["Problem"];
            429: components["responses"]["Busy"];
            503: components["responses"]["Busy"];
        };
    };
    getMetrics: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description Prometheus' text format. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/plain": string;
                };
            };
        };
    };
    getReady: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description It has. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": {
                        /** @constant */
                        status: "ready";
                    };
                };
            };
            503: components["responses"]["Busy"];
        };
    };
    getProgram: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /**
                 * @description The operating system and architecture, as Go names them.
                 * @example linux-amd64
                 */
                system: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The program. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/octet-stream": string;
                };
            };
            404: components["responses"]["Problem"];
        };
    };
    getGoModule: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /**
                 * @description A path of the Go module proxy protocol.
                 * @example keenlantern.example/record/@latest
                 */
                file: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The file. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/plain": string;
                    "application/json": Record<string, never>;
                    "application/zip": string;
                };
            };
            404: components["responses"]["Problem"];
        };
    };
    getMaven: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /**
                 * @description A path of the Maven repository layout.
                 * @example example/keenlantern/keenlantern-record/maven-metadata.xml
                 */
                file: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The file. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/java-archive": string;
                    "application/xml": string;
                    "text/plain": string;
                };
            };
            404: components["responses"]["Problem"];
        };
    };
    headMaven: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /**
                 * @description A path of the Maven repository layout.
                 * @example example/keenlantern/keenlantern-record/maven-metadata.xml
                 */
                file: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description There is. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description There is not. */
            404: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
        };
    };
    getNuGet: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /**
                 * @description A path of the NuGet protocol, or start.tar.gz.
                 * @example index.json
                 */
                file: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The file. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": Record<string, never>;
                    "application/octet-stream": string;
                };
            };
            404: components["responses"]["Problem"];
        };
    };
    getComposer: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The repository. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": Record<string, never>;
                };
            };
            404: components["responses"]["Problem"];
        };
    };
    getRecorder: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                runtime: "node" | "php";
                file: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The recorder. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/gzip": string;
                };
            };
            404: components["responses"]["Problem"];
        };
    };
    getHealth: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description It is. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Up"];
                };
            };
        };
    };
}
