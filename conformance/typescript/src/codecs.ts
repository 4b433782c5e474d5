// The codecs of the messages that payloads are held against.
import * as wire from "./gen/faithful/wire.js";
import * as language from "./gen/skerry/language/types.js";
import { manyTools } from "./gen/skerry/many/types.js";
import { leafPatchTools, leafTools } from "./gen/skerry/shared/types.js";
import * as vectors from "./gen/skerry/vectors/types.js";

/** By the name of the message. */
export const codecs: Readonly<Record<string, wire.ValueTools<unknown>>> = {
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
  Bounded: vectors.boundedTools,
  Broken: vectors.brokenTools,
  Defaults: vectors.defaultsTools,
  Empty: vectors.emptyTools,
  Lists: vectors.listsTools,
  Maps: vectors.mapsTools,
  Node: vectors.nodeTools,
  Optionals: vectors.optionalsTools,
  Renamed: vectors.renamedTools,
  Scalars: vectors.scalarsTools,
  Changes: vectors.changesTools,
  LanguageChanges: language.languageChangesTools,
  LeafPatch: leafPatchTools,
  ScalarsPatch: vectors.scalarsPatchTools,
  OptionalsPatch: vectors.optionalsPatchTools,
  DefaultsPatch: vectors.defaultsPatchTools,
  ListsPatch: vectors.listsPatchTools,
  MapsPatch: vectors.mapsPatchTools,
  NodePatch: vectors.nodePatchTools,
  BoundedPatch: vectors.boundedPatchTools,
  RenamedPatch: vectors.renamedPatchTools,
  ChangesPatch: vectors.changesPatchTools,
  EmptyPatch: vectors.emptyPatchTools,
  NamedScalarsPatch: language.namedScalarsPatchTools,
  NamedOptionalsPatch: language.namedOptionalsPatchTools,
  NamedDefaultsPatch: language.namedDefaultsPatchTools,
  MorePatch: language.morePatchTools,
  MoreOptionalsPatch: language.moreOptionalsPatchTools,
  KeysPatch: language.keysPatchTools,
};

/** What comes of an attempt; undefined when it is refused. */
export function attempt<T>(act: () => T): T | undefined {
  try {
    return act();
  } catch (problem) {
    if (problem instanceof wire.WireError) {
      return undefined;
    }
    throw problem;
  }
}
