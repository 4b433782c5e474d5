// The codecs of the messages that payloads are held against.
import * as wire from "./gen/faithful/wire.js";
import * as language from "./gen/skerry/language/types.js";
import { manyTools } from "./gen/skerry/many/types.js";
import { leafTools } from "./gen/skerry/shared/types.js";
import { boundedTools, brokenTools, defaultsTools, emptyTools, listsTools, mapsTools, nodeTools, optionalsTools, renamedTools, scalarsTools } from "./gen/skerry/vectors/types.js";
/** By the name of the message. */
export const codecs = {
    Chain: language.chainTools,
    FootPassage: language.footPassageTools,
    NamedScalars: language.namedScalarsTools,
    NamedOptionals: language.namedOptionalsTools,
    NamedDefaults: language.namedDefaultsTools,
    More: language.moreTools,
    MoreOptionals: language.moreOptionalsTools,
    Keys: language.keysTools,
    Many: manyTools,
    Leaf: leafTools,
    Bounded: boundedTools,
    Broken: brokenTools,
    Defaults: defaultsTools,
    Empty: emptyTools,
    Lists: listsTools,
    Maps: mapsTools,
    Node: nodeTools,
    Optionals: optionalsTools,
    Renamed: renamedTools,
    Scalars: scalarsTools,
};
/** What comes of an attempt; undefined when it is refused. */
export function attempt(act) {
    try {
        return act();
    }
    catch (problem) {
        if (problem instanceof wire.WireError) {
            return undefined;
        }
        throw problem;
    }
}
