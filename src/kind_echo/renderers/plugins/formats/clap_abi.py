"""What of the binary interface of CLAP 1.x is used, as C declares it (the standard's headers, MIT; from memory)."""

DECLARATIONS = """
typedef struct { uint32_t major, minor, revision; } clap_version_t;

typedef struct {
    clap_version_t clap_version;
    const char *id, *name, *vendor, *url, *manual_url, *support_url, *version, *description;
    const char *const *features;
} clap_plugin_descriptor_t;

typedef struct clap_host {
    clap_version_t clap_version;
    void *host_data;
    const char *name, *vendor, *url, *version;
    const void *(*get_extension)(const struct clap_host *host, const char *extension_id);
    void (*request_restart)(const struct clap_host *host);
    void (*request_process)(const struct clap_host *host);
    void (*request_callback)(const struct clap_host *host);
} clap_host_t;

typedef struct { uint32_t size, time; uint16_t space_id, type; uint32_t flags; } clap_event_header_t;

typedef struct {
    clap_event_header_t header;
    uint32_t param_id;
    void *cookie;
    int32_t note_id;
    int16_t port_index, channel, key;
    double value;
} clap_event_param_value_t;

typedef struct clap_input_events {
    void *ctx;
    uint32_t (*size)(const struct clap_input_events *list);
    const clap_event_header_t *(*get)(const struct clap_input_events *list, uint32_t index);
} clap_input_events_t;

typedef struct clap_output_events {
    void *ctx;
    bool (*try_push)(const struct clap_output_events *list, const clap_event_header_t *event);
} clap_output_events_t;

typedef struct {
    float **data32;
    double **data64;
    uint32_t channel_count, latency;
    uint64_t constant_mask;
} clap_audio_buffer_t;

typedef struct {
    int64_t steady_time;
    uint32_t frames_count;
    const void *transport;
    const clap_audio_buffer_t *audio_inputs;
    clap_audio_buffer_t *audio_outputs;
    uint32_t audio_inputs_count, audio_outputs_count;
    const clap_input_events_t *in_events;
    const clap_output_events_t *out_events;
} clap_process_t;

typedef struct clap_plugin {
    const clap_plugin_descriptor_t *desc;
    void *plugin_data;
    bool (*init)(const struct clap_plugin *plugin);
    void (*destroy)(const struct clap_plugin *plugin);
    bool (*activate)(const struct clap_plugin *plugin, double sample_rate, uint32_t min_frames, uint32_t max_frames);
    void (*deactivate)(const struct clap_plugin *plugin);
    bool (*start_processing)(const struct clap_plugin *plugin);
    void (*stop_processing)(const struct clap_plugin *plugin);
    void (*reset)(const struct clap_plugin *plugin);
    int32_t (*process)(const struct clap_plugin *plugin, const clap_process_t *process);
    const void *(*get_extension)(const struct clap_plugin *plugin, const char *id);
    void (*on_main_thread)(const struct clap_plugin *plugin);
} clap_plugin_t;

typedef struct clap_plugin_factory {
    uint32_t (*get_plugin_count)(const struct clap_plugin_factory *factory);
    const clap_plugin_descriptor_t *(*get_plugin_descriptor)(const struct clap_plugin_factory *factory, uint32_t index);
    const clap_plugin_t *(*create_plugin)(
        const struct clap_plugin_factory *factory, const clap_host_t *host, const char *plugin_id);
} clap_plugin_factory_t;

typedef struct {
    clap_version_t clap_version;
    bool (*init)(const char *plugin_path);
    void (*deinit)(void);
    const void *(*get_factory)(const char *factory_id);
} clap_plugin_entry_t;

extern clap_plugin_entry_t clap_entry;

typedef struct {
    uint32_t id, flags;
    void *cookie;
    char name[256];
    char module[1024];
    double min_value, max_value, default_value;
} clap_param_info_t;

typedef struct {
    uint32_t (*count)(const clap_plugin_t *plugin);
    bool (*get_info)(const clap_plugin_t *plugin, uint32_t index, clap_param_info_t *info);
    bool (*get_value)(const clap_plugin_t *plugin, uint32_t id, double *value);
    bool (*value_to_text)(const clap_plugin_t *plugin, uint32_t id, double value, char *text, uint32_t capacity);
    bool (*text_to_value)(const clap_plugin_t *plugin, uint32_t id, const char *text, double *value);
    void (*flush)(const clap_plugin_t *plugin, const clap_input_events_t *in, const clap_output_events_t *out);
} clap_plugin_params_t;

typedef struct {
    uint32_t id;
    char name[256];
    uint32_t flags, channel_count;
    const char *port_type;
    uint32_t in_place_pair;
} clap_audio_port_info_t;

typedef struct {
    uint32_t (*count)(const clap_plugin_t *plugin, bool is_input);
    bool (*get)(const clap_plugin_t *plugin, uint32_t index, bool is_input, clap_audio_port_info_t *info);
} clap_plugin_audio_ports_t;

typedef struct { uint32_t (*get)(const clap_plugin_t *plugin); } clap_plugin_number_t;

typedef struct {
    bool (*has_hard_realtime_requirement)(const clap_plugin_t *plugin);
    bool (*set)(const clap_plugin_t *plugin, int32_t mode);
} clap_plugin_render_t;

typedef struct clap_istream {
    void *ctx;
    int64_t (*read)(const struct clap_istream *stream, void *buffer, uint64_t size);
} clap_istream_t;

typedef struct clap_ostream {
    void *ctx;
    int64_t (*write)(const struct clap_ostream *stream, const void *buffer, uint64_t size);
} clap_ostream_t;

typedef struct {
    bool (*save)(const clap_plugin_t *plugin, const clap_ostream_t *stream);
    bool (*load)(const clap_plugin_t *plugin, const clap_istream_t *stream);
} clap_plugin_state_t;

typedef struct {
    bool (*is_main_thread)(const clap_host_t *host);
    bool (*is_audio_thread)(const clap_host_t *host);
} clap_host_thread_check_t;

typedef struct { void (*log)(const clap_host_t *host, int32_t severity, const char *message); } clap_host_log_t;

typedef struct {
    void (*rescan)(const clap_host_t *host, uint32_t flags);
    void (*clear)(const clap_host_t *host, uint32_t param_id, uint32_t flags);
    void (*request_flush)(const clap_host_t *host);
} clap_host_params_t;

typedef struct { void (*changed)(const clap_host_t *host); } clap_host_changed_t;
"""

FACTORY, PARAMS, PORTS = b"clap.plugin-factory", b"clap.params", b"clap.audio-ports"
LATENCY, TAIL, RENDER, STATE = b"clap.latency", b"clap.tail", b"clap.render", b"clap.state"
THREADS, LOG = b"clap.thread-check", b"clap.log"
PARAM_VALUE = 5
"""The type of an event that sets a parameter, in the core's space of events, 0."""

PROCESS_ERROR = 0
STEPPED, HIDDEN, READ_ONLY, BYPASS = 1 << 0, 1 << 2, 1 << 3, 1 << 4
"""Flags of a parameter."""

REAL_TIME, OFFLINE = 0, 1
"""Modes of the extension for rendering."""

TAKES_DOUBLE = 1 << 1
"""Flag of an audio port."""

ENDLESS_TAIL = 2**31 - 1
"""From here on, a tail never ends."""
