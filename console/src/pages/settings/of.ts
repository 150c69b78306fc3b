// What each view of the settings is told.
export interface Of {
  project: string;
  /** Whether whoever looks may change it. */
  may: boolean;
}
