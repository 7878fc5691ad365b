#include "light/gloss.hpp"

#include <algorithm>

#include "photonlane/light/optics.hpp"

namespace photonlane {

void find_gloss(const Surfaces& surfaces, const std::vector<Material>& materials,
                const float* cosine, const bool* inside, Gloss& gloss, Colors& colors) {
  gloss.any = false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const Material& material = materials[surfaces.material[i]];
    gloss.glossy[i] = surfaces.ending[i] == Ending::hit && material.glossy();
    // Only of bodies: a cell or a panel has no inside that lanes run through.
    gloss.bends[i] = gloss.glossy[i] && material.bends() && surfaces.face[i] == Face::curved;
    if (!gloss.glossy[i]) continue;
    gloss.any = true;
    gloss.roughness[i] = static_cast<float>(material.roughness);
    gloss.cosine[i] = std::clamp(cosine[i], 0.0f, 1.0f);
    if (gloss.bends[i]) {
      const auto index = static_cast<float>(material.index);
      gloss.index[i] = inside != nullptr && inside[i] ? 1 / index : index;
      const float root = (index - 1) / (index + 1);
      gloss.straight_red[i] = gloss.straight_green[i] = gloss.straight_blue[i] = root * root;
      gloss.red[i] = gloss.green[i] = gloss.blue[i] = reflectance(gloss.cosine[i], gloss.index[i]);
      continue;
    }
    const auto metal = static_cast<float>(material.metal);
    const double root = material.bends() ? (material.index - 1) / (material.index + 1) : 0;
    const auto specular = static_cast<float>(std::max(material.specular, root * root));
    const float whole = 1 / std::max(colors.alpha[i], 1e-6f);
    const auto split = [&](float& color, float& straight, float& thrown) {
      straight = specular + (std::min(color * whole, 1.0f) - specular) * metal;
      thrown = mirror_reflectance(gloss.cosine[i], straight);
      color *= (1 - metal) * (1 - thrown);
    };
    split(colors.red[i], gloss.straight_red[i], gloss.red[i]);
    split(colors.green[i], gloss.straight_green[i], gloss.green[i]);
    split(colors.blue[i], gloss.straight_blue[i], gloss.blue[i]);
  }
}

}  // namespace photonlane
