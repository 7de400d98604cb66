// React without a screen: a tree of components that is rendered at once and draws nothing.
import React from "react";
import Reconciler from "react-reconciler";
import { DefaultEventPriority, NoEventPriority } from "react-reconciler/constants.js";

const nothing = () => null;
let priority = NoEventPriority;

const reconciler = Reconciler({
  supportsMutation: true,
  supportsPersistence: false,
  supportsHydration: false,
  isPrimaryRenderer: true,
  noTimeout: -1,
  scheduleTimeout: setTimeout,
  cancelTimeout: clearTimeout,
  scheduleMicrotask: queueMicrotask,
  supportsMicrotasks: true,
  createInstance: nothing,
  createTextInstance: nothing,
  appendInitialChild: nothing,
  appendChild: nothing,
  appendChildToContainer: nothing,
  insertBefore: nothing,
  insertInContainerBefore: nothing,
  removeChild: nothing,
  removeChildFromContainer: nothing,
  clearContainer: nothing,
  commitUpdate: nothing,
  commitTextUpdate: nothing,
  finalizeInitialChildren: () => false,
  shouldSetTextContent: () => false,
  getRootHostContext: nothing,
  getChildHostContext: nothing,
  getPublicInstance: nothing,
  prepareForCommit: nothing,
  resetAfterCommit: nothing,
  preparePortalMount: nothing,
  detachDeletedInstance: nothing,
  getInstanceFromNode: nothing,
  beforeActiveInstanceBlur: nothing,
  afterActiveInstanceBlur: nothing,
  prepareScopeUpdate: nothing,
  getInstanceFromScope: nothing,
  setCurrentUpdatePriority: (next) => (priority = next),
  getCurrentUpdatePriority: () => priority,
  resolveUpdatePriority: () => (priority === NoEventPriority ? DefaultEventPriority : priority),
  trackSchedulerEvent: nothing,
  resolveEventType: nothing,
  resolveEventTimeStamp: () => -1.1,
  shouldAttemptEagerTransition: () => false,
  requestPostPaintCallback: nothing,
  maySuspendCommit: () => false,
  NotPendingTransition: null,
  HostTransitionContext: React.createContext(null),
  resetFormInstance: nothing,
});

export class Tree {
  constructor(element) {
    const complain = (error) => {
      throw error;
    };
    const concurrent = 1;
    this.root = reconciler.createContainer(
      {}, concurrent, null, false, null, "", complain, complain, complain, nothing,
    );
    this.update(element);
  }

  update(element) {
    reconciler.updateContainerSync(element, this.root, null, null);
    this.settle();
  }

  /** Do something, and let all that follows from it happen before this returns. */
  act(change) {
    reconciler.flushSyncFromReconciler(change);
    this.settle();
  }

  settle() {
    do reconciler.flushSyncWork();
    while (reconciler.flushPassiveEffects());
  }
}
