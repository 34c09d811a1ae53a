/** Whether pictures are drawn by the processor: smoothing every edge four times over would cost the rate there. */
export const software = (() => {
  const gl = document.createElement('canvas').getContext('webgl');
  const info = gl?.getExtension('WEBGL_debug_renderer_info');
  const name = info ? String(gl!.getParameter(info.UNMASKED_RENDERER_WEBGL)) : '';
  gl?.getExtension('WEBGL_lose_context')?.loseContext();
  return /swiftshader|llvmpipe|software|basic render/i.test(name);
})();

export const FULL = software ? 1 : Math.min(1.5, window.devicePixelRatio || 1);
