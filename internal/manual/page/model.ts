/** What the pages know of the calls of a service: what forms.go of the manual writes. */

import type { Credential } from "../../stubs/typescript/support/web.js";

export interface Model {
  readonly service: string;
  readonly digest: string;
  readonly calls: readonly CallModel[];
  readonly messages: Readonly<Record<string, MessageModel>>;
  readonly enums: Readonly<Record<string, EnumModel>>;
  readonly unions: Readonly<Record<string, UnionModel>>;
}

export interface CallModel {
  readonly name: string;
  readonly full: string;
  /** As faithful call takes it. */
  readonly command: string;
  readonly method: string;
  readonly path: string;
  readonly status: number;
  readonly safe?: boolean;
  readonly idempotent?: boolean;
  readonly sends?: boolean;
  readonly receives?: boolean;
  readonly head?: string;
  readonly request?: string;
  readonly answer?: string;
  readonly body: boolean;
  readonly places: readonly Place[];
  readonly raw?: RawModel;
  readonly answerBody: boolean;
  readonly answerPlaces: readonly Place[];
  readonly answerRaw?: RawModel;
  readonly needs: readonly (readonly CredentialModel[])[];
  readonly fails: readonly { readonly name: string; readonly status: number }[];
  /** In JSON. */
  readonly sampleHead?: string;
  readonly sample?: string;
}

export interface Place {
  readonly field: string;
  readonly place: "path" | "query" | "header" | "cookie";
  readonly name: string;
  readonly shape: "bare" | "quoted" | "number";
  readonly list?: boolean;
}

export interface RawModel {
  readonly field: string;
  readonly type: string;
  /** A media type that it allows. */
  readonly given: string;
  readonly low: number;
  readonly high?: number;
}

export interface CredentialModel {
  readonly name: string;
  readonly kind: Credential["kind"];
  readonly key?: string;
  readonly variable: string;
}

export interface MessageModel {
  readonly name: string;
  readonly patch?: boolean;
  readonly fields: readonly FieldModel[];
  /** Where there are several, in JSON. */
  readonly examples?: readonly { readonly name: string; readonly text: string }[];
}

export interface FieldModel {
  readonly number: number;
  readonly name: string;
  readonly type: TypeModel;
  readonly must: "required" | "optional" | "defaulted";
  /** In JSON. */
  readonly default?: string;
  readonly bounds?: Bounds;
  readonly secret?: boolean;
  readonly doc?: string;
  readonly old?: string;
}

export type Scalar =
  | "bool"
  | "int8"
  | "int16"
  | "int32"
  | "int64"
  | "uint8"
  | "uint16"
  | "uint32"
  | "uint64"
  | "float32"
  | "float64"
  | "text"
  | "bytes"
  | "uuid"
  | "instant"
  | "decimal"
  | "date"
  | "duration"
  | "any";

export interface TypeModel {
  readonly kind: Scalar | "list" | "map" | "enum" | "union" | "message";
  readonly of?: string;
  readonly key?: TypeModel;
  readonly elem?: TypeModel;
  readonly bounds?: Bounds;
  readonly secret?: boolean;
  readonly clear?: boolean;
}

/** Limits, and what is said where they are not kept. A max of 0 is none, unless the other limit is 0, too. */
export interface Bounds {
  readonly low?: string;
  readonly high?: string;
  readonly range?: string;
  readonly length?: string;
  readonly lengthLow?: number;
  readonly lengthMax?: number;
  readonly count?: string;
  readonly countLow?: number;
  readonly countMax?: number;
  readonly pattern?: string;
  readonly unique?: boolean;
}

export interface EnumModel {
  readonly name: string;
  readonly members: readonly MemberModel[];
}

export interface UnionModel {
  readonly name: string;
  readonly alternatives: readonly (MemberModel & { readonly type: TypeModel })[];
}

export interface MemberModel {
  readonly number: number;
  readonly name: string;
  readonly doc?: string;
}

/** A declared thing of a model, which has all that its types are made of. */
export function named<T>(all: Readonly<Record<string, T>>, name: string | undefined): T {
  const found = all[name ?? ""];
  if (found === undefined) {
    throw new Error(`the page has no "${name ?? ""}"`);
  }
  return found;
}
