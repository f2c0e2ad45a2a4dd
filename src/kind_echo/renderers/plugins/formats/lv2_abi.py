"""What is used of LV2's binary interface and of the library lilv, as C declares it (headers under ISC; from memory)."""

DECLARATIONS = """
typedef void *LV2_Handle;
typedef uint32_t LV2_URID;
typedef struct { const char *URI; void *data; } LV2_Feature;

typedef struct LV2_Descriptor {
    const char *URI;
    LV2_Handle (*instantiate)(const struct LV2_Descriptor *, double, const char *, const LV2_Feature *const *);
    void (*connect_port)(LV2_Handle instance, uint32_t port, void *data);
    void (*activate)(LV2_Handle instance);
    void (*run)(LV2_Handle instance, uint32_t frames);
    void (*deactivate)(LV2_Handle instance);
    void (*cleanup)(LV2_Handle instance);
    const void *(*extension_data)(const char *uri);
} LV2_Descriptor;

typedef struct { void *handle; LV2_URID (*map)(void *handle, const char *uri); } LV2_URID_Map;
typedef struct { void *handle; const char *(*unmap)(void *handle, LV2_URID urid); } LV2_URID_Unmap;
typedef struct { uint32_t context, subject; LV2_URID key; uint32_t size; LV2_URID type; const void *value; }
    LV2_Options_Option;

typedef struct { void *handle; uint32_t (*schedule_work)(void *handle, uint32_t size, const void *data); }
    LV2_Worker_Schedule;
typedef struct {
    uint32_t (*work)(LV2_Handle, uint32_t (*respond)(void *, uint32_t, const void *), void *, uint32_t, const void *);
    uint32_t (*work_response)(LV2_Handle, uint32_t, const void *);
    uint32_t (*end_run)(LV2_Handle);
} LV2_Worker_Interface;

typedef struct { uint32_t size, type; } LV2_Atom;
typedef struct { uint32_t size, type, unit, pad; } empty_sequence_t;

typedef struct LilvWorldImpl LilvWorld;
typedef struct LilvNodeImpl LilvNode;
typedef struct LilvPluginImpl LilvPlugin;
typedef struct LilvPortImpl LilvPort;
typedef struct LilvStateImpl LilvState;
typedef struct LilvScalePointImpl LilvScalePoint;
typedef void LilvIter;
typedef void LilvPlugins;
typedef void LilvNodes;
typedef void LilvScalePoints;
typedef struct { const LV2_Descriptor *lv2_descriptor; LV2_Handle lv2_handle; void *pimpl; } LilvInstance;

LilvWorld *lilv_world_new(void);
void lilv_world_load_bundle(LilvWorld *, const LilvNode *);
const LilvPlugins *lilv_world_get_all_plugins(const LilvWorld *);
LilvNode *lilv_new_uri(LilvWorld *, const char *);
LilvNode *lilv_new_file_uri(LilvWorld *, const char *host, const char *path);
const char *lilv_node_as_uri(const LilvNode *);
const char *lilv_node_as_string(const LilvNode *);
float lilv_node_as_float(const LilvNode *);
bool lilv_node_is_float(const LilvNode *);
bool lilv_node_is_int(const LilvNode *);

unsigned lilv_plugins_size(const LilvPlugins *);
LilvIter *lilv_plugins_begin(const LilvPlugins *);
const LilvPlugin *lilv_plugins_get(const LilvPlugins *, LilvIter *);
LilvIter *lilv_plugins_next(const LilvPlugins *, LilvIter *);
bool lilv_plugins_is_end(const LilvPlugins *, LilvIter *);
const LilvPlugin *lilv_plugins_get_by_uri(const LilvPlugins *, const LilvNode *);

LilvIter *lilv_nodes_begin(const LilvNodes *);
const LilvNode *lilv_nodes_get(const LilvNodes *, LilvIter *);
LilvIter *lilv_nodes_next(const LilvNodes *, LilvIter *);
bool lilv_nodes_is_end(const LilvNodes *, LilvIter *);

const LilvNode *lilv_plugin_get_uri(const LilvPlugin *);
LilvNode *lilv_plugin_get_name(const LilvPlugin *);
LilvNodes *lilv_plugin_get_required_features(const LilvPlugin *);
LilvNodes *lilv_plugin_get_value(const LilvPlugin *, const LilvNode *predicate);
const LilvNode *lilv_plugin_get_library_uri(const LilvPlugin *);
uint32_t lilv_plugin_get_num_ports(const LilvPlugin *);
const LilvPort *lilv_plugin_get_port_by_index(const LilvPlugin *, uint32_t);
bool lilv_plugin_has_latency(const LilvPlugin *);
uint32_t lilv_plugin_get_latency_port_index(const LilvPlugin *);

const LilvNode *lilv_port_get_symbol(const LilvPlugin *, const LilvPort *);
LilvNode *lilv_port_get_name(const LilvPlugin *, const LilvPort *);
LilvNode *lilv_port_get(const LilvPlugin *, const LilvPort *, const LilvNode *predicate);
bool lilv_port_is_a(const LilvPlugin *, const LilvPort *, const LilvNode *);
bool lilv_port_has_property(const LilvPlugin *, const LilvPort *, const LilvNode *);
void lilv_port_get_range(const LilvPlugin *, const LilvPort *, LilvNode **def, LilvNode **min, LilvNode **max);
LilvScalePoints *lilv_port_get_scale_points(const LilvPlugin *, const LilvPort *);
LilvIter *lilv_scale_points_begin(const LilvScalePoints *);
const LilvScalePoint *lilv_scale_points_get(const LilvScalePoints *, LilvIter *);
LilvIter *lilv_scale_points_next(const LilvScalePoints *, LilvIter *);
bool lilv_scale_points_is_end(const LilvScalePoints *, LilvIter *);
const LilvNode *lilv_scale_point_get_label(const LilvScalePoint *);
const LilvNode *lilv_scale_point_get_value(const LilvScalePoint *);

LilvInstance *lilv_plugin_instantiate(const LilvPlugin *, double rate, const LV2_Feature *const *features);

LilvState *lilv_state_new_from_instance(
    const LilvPlugin *, LilvInstance *, LV2_URID_Map *, const char *scratch, const char *copy, const char *link,
    const char *save, const void *(*get)(const char *symbol, void *data, uint32_t *size, uint32_t *type), void *data,
    uint32_t flags, const LV2_Feature *const *);
LilvState *lilv_state_new_from_file(LilvWorld *, LV2_URID_Map *, const LilvNode *subject, const char *path);
int lilv_state_save(
    LilvWorld *, LV2_URID_Map *, LV2_URID_Unmap *, const LilvState *, const char *uri, const char *dir,
    const char *filename);
void lilv_state_restore(
    const LilvState *, LilvInstance *, void (*set)(const char *symbol, void *data, const void *value, uint32_t size,
    uint32_t type), void *data, uint32_t flags, const LV2_Feature *const *);
const LilvNode *lilv_state_get_plugin_uri(const LilvState *);
"""

NAMES = ("liblilv-0.so.0", "liblilv-0.so", "liblilv-0.dylib", "lilv-0.dll")
"""Of the library, on the systems that have it."""

CORE = "http://lv2plug.in/ns/lv2core#"
ATOM = "http://lv2plug.in/ns/ext/atom#"
BUFFERS = "http://lv2plug.in/ns/ext/buf-size#"
OPTIONS = "http://lv2plug.in/ns/ext/options#options"
MAP, UNMAP = "http://lv2plug.in/ns/ext/urid#map", "http://lv2plug.in/ns/ext/urid#unmap"
WORK, WORKER = "http://lv2plug.in/ns/ext/worker#schedule", "http://lv2plug.in/ns/ext/worker#interface"
STATE = "http://lv2plug.in/ns/ext/state#"
UNIT = "http://lv2plug.in/ns/extensions/units#unit"
UNIT_SYMBOLS = {
    "bar": "bars", "beat": "beats", "bpm": "BPM", "cent": "ct", "coef": "", "db": "dB", "degree": "deg",
    "frame": "frames", "hz": "Hz", "khz": "kHz", "mhz": "MHz", "ms": "ms", "min": "min",
    "oct": "oct", "pc": "%", "s": "s", "semitone12TET": "semitones",
}  # fmt: skip
